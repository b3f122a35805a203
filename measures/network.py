"""Adjustment of 200 stations and 800 links beside gtsam."""

from __future__ import annotations

import time

import numpy as np

from taut_lantern.core import frames
from taut_lantern.core.network.adjust import adjust
from taut_lantern.core.network.observations import LinkObservation

from .table import Row


def grid(rows: int, columns: int, seed: int = 1) -> tuple[dict[str, np.ndarray], list[LinkObservation]]:
    rng = np.random.default_rng(seed)
    sigma = np.array([5e-5] * 3 + [8e-4] * 3)
    true = {
        f"S{r:02d}{c:02d}": frames.pose(float(rng.uniform(-3, 3)), (8.0 * c, 8.0 * r, float(rng.normal())))
        for r in range(rows)
        for c in range(columns)
    }
    links = []
    for r in range(rows):
        for c in range(columns):
            for dr, dc in ((0, 1), (1, 0), (1, 1), (1, -1), (0, 2)):
                if r + dr < rows and 0 <= c + dc < columns:
                    a, b = f"S{r:02d}{c:02d}", f"S{r + dr:02d}{c + dc:02d}"
                    noise = np.eye(4)
                    d = rng.normal(size=6) * sigma
                    noise[:3, :3], noise[:3, 3] = frames.rotation(d[:3]), d[3:]
                    links.append(LinkObservation(f"{a}-{b}", a, b, noise @ frames.inverse(true[a]) @ true[b], np.diag(sigma**2)))
    return true, links


def by_gtsam(true: dict[str, np.ndarray], links: list[LinkObservation]) -> dict[str, np.ndarray]:
    import gtsam

    number = {s: k for k, s in enumerate(true)}
    graph, start = gtsam.NonlinearFactorGraph(), gtsam.Values()
    graph.add(gtsam.PriorFactorPose3(0, gtsam.Pose3(np.eye(4)), gtsam.noiseModel.Isotropic.Sigma(6, 1e-9)))
    poses = {next(iter(true)): np.eye(4)}
    ready = [next(iter(true))]
    while ready:  # the same spanning tree start as ours
        s = ready.pop(0)
        for k in links:
            if k.a == s and k.b not in poses:
                poses[k.b] = poses[s] @ k.T_a_b
                ready.append(k.b)
            elif k.b == s and k.a not in poses:
                poses[k.a] = poses[s] @ frames.inverse(k.T_a_b)
                ready.append(k.a)
    for s, t in poses.items():
        start.insert(number[s], gtsam.Pose3(t))
    for k in links:
        back = frames.inverse(k.T_a_b)  # ours is a motion on the left, gtsam's on the right
        adjoint = np.block([[back[:3, :3], np.zeros((3, 3))], [frames.skew(back[:3, 3]) @ back[:3, :3], back[:3, :3]]])
        noise = gtsam.noiseModel.Gaussian.Covariance(adjoint @ k.covariance @ adjoint.T)
        graph.add(gtsam.BetweenFactorPose3(number[k.a], number[k.b], gtsam.Pose3(k.T_a_b), noise))
    result = gtsam.GaussNewtonOptimizer(graph, start).optimize()
    marginals = gtsam.Marginals(graph, result)
    for s in true:
        marginals.marginalCovariance(number[s])
    return {s: result.atPose3(n).matrix() for s, n in number.items()}


def matching() -> Row:
    """Thirty targets, ten of them among a thousand control points of equal height: the worst that names do not help with."""
    from scipy.spatial.distance import pdist

    from taut_lantern.core.targets.match import by_geometry

    rng = np.random.default_rng(5)
    targets = rng.uniform((-60, -40, 0), (60, 40, 0.02), (30, 3))
    control = rng.uniform((-300, -300, 0), (300, 300, 0.02), (1000, 3))
    where = rng.permutation(1000)[:10]
    control[where] = targets[:10] + rng.normal(0, 0.001, (10, 3))
    begin = time.perf_counter()
    found = by_geometry(targets, control)
    ours = time.perf_counter() - begin
    begin = time.perf_counter()
    pdist(control)
    theirs = time.perf_counter() - begin
    right = sum(found.pairs.count((k, int(where[k]))) for k in range(10))
    return Row(
        "Matching 30 targets to 1,000 control points by geometry, all at one height, ten in common",
        f"{ours:.2f} s, {right} of 10 right",
        f"scipy pdist of the control points alone: {theirs:.3f} s ({ours / theirs:.0f}x)",
        "under 2 s",
        bool(ours < 2 and right == 10),
    )


def large() -> Row:
    """Two thousand stations: with the covariance of every station and the redundancy of every link."""
    true, links = grid(40, 50)
    begin = time.perf_counter()
    s = adjust(list(true), links)
    ours = time.perf_counter() - begin
    claimed = np.sqrt([np.trace(s.covariance[x][3:, 3:]) / 3 for x in true])
    return Row(
        f"Adjustment of {len(true)} stations, {len(links)} links, with the covariance of every station and all redundancies",
        f"{ours:.1f} s, {s.iterations} steps, sigma0 {s.sigma0:.2f}, the least certain ±{1000 * claimed.max():.1f} mm",
        "none needed",
        "under 10 s",
        bool(ours < 10 and s.converged),
    )


def run() -> list[Row]:
    true, links = grid(10, 20)
    times = []
    for _ in range(3):  # in turn, the median of three
        begin = time.perf_counter()
        s = adjust(list(true), links)
        middle = time.perf_counter()
        poses = by_gtsam(true, links)
        times.append((middle - begin, time.perf_counter() - middle))
    ours, theirs = np.median(times, axis=0)
    apart = max(float(np.linalg.norm(s.poses[x][:3, 3] - poses[x][:3, 3])) for x in true)
    return [
        Row(
            f"Adjustment of {len(true)} stations, {len(links)} links, with all covariances, redundancies and the global test (median of three runs in turn)",
            f"{ours:.2f} s, {s.iterations} steps, sigma0 {s.sigma0:.2f}",
            f"gtsam Gauss-Newton with marginals: {theirs:.2f} s ({theirs / ours:.1f}x); results {1000 * apart:.3f} mm apart at most",
            "within 1x",
            bool(ours <= theirs and apart < 1e-3),
        ),
        large(),
        matching(),
    ]
