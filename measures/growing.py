"""Gradient boosted trees, grown by scikit-learn and taken over as ours."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from taut_lantern.core.clean.trees import Trees

LOOKED = 0.1  # of what is not so, that the few trees are fitted to
EASY = -6.0  # log odds by them, below which something is easily told
FEW = 10


def boosted(trees: int, leaves: int, rate: float, share: float = 1.0) -> Any:
    """A model that is to be fitted. share: of the sights, that each node may ask for."""
    from sklearn.ensemble import HistGradientBoostingClassifier

    return HistGradientBoostingClassifier(
        max_iter=trees,
        learning_rate=rate,
        max_leaf_nodes=leaves,
        min_samples_leaf=40,
        l2_regularization=2.0,
        max_features=share,
        early_stopping=False,
        random_state=1,
    )


def hard(x: NDArray, y: NDArray, weight: NDArray) -> NDArray:
    """(n,) how much each of sights (n, k) counts: 1 of what is so (n, bool) and of what a few trees, fitted by weight (n,), do not tell from it; of
    the rest one in FEW counts for all."""
    rng = np.random.default_rng(0)
    some = y | (rng.random(len(y)) < LOOKED)
    quick = boosted(60, 24, 0.15, 0.3).fit(x[some], y[some], (weight * np.where(y, 1.0, 1 / LOOKED))[some])
    near = y | (np.concatenate([quick.decision_function(v) for v in np.array_split(x, 64)]) > EASY)
    return np.where(near, 1.0, np.where(rng.random(len(y)) < 1 / FEW, float(FEW), 0.0))


def trees_of(model: Any) -> Trees:
    trees = [p[0].nodes for p in model._predictors]
    first = np.cumsum([0] + [len(t) for t in trees[:-1]])
    nodes, add = np.concatenate(trees), np.repeat(first, [len(t) for t in trees])
    leaf = nodes["is_leaf"].astype(bool)
    base = float(model._baseline_prediction.ravel()[0]) / len(trees)
    return Trees(
        first=first.astype(np.int32),
        asks=np.where(leaf, -1, nodes["feature_idx"]).astype(np.int16),
        limit=nodes["num_threshold"].astype(np.float32),
        left=(nodes["left"] + add).astype(np.int32),
        right=(nodes["right"] + add).astype(np.int32),
        value=np.where(leaf, nodes["value"] + base, 0).astype(np.float32),
    )
