"""From evidence to a word: every reason, and the border of every tolerance."""

from __future__ import annotations

from dataclasses import replace

import pytest

from taut_lantern.core.align.evidence import Evidence
from taut_lantern.core.network.judge import PROFILES, Profile, judge, sentence

GOOD = Evidence(0.001, 0.0015, 0.0025, (1,) * 24, 0.5, 0.001, 0.0, 0.01, 80, 0.001, (1.0, 0.0, 0.0), 0.05, 0.0004, 0.0, 0.05, 8.0, 0.0)


def status(e: Evidence, residual: float | None = 0.001, redundancy: float = 3.0, profile: Profile = Profile()) -> tuple[str, set[str]]:
    j = judge(e, profile, residual, redundancy, "a · b")
    return j.status, {r.code for r in j.reasons}


def test_a_link_without_a_reason_against_it_is_taut() -> None:
    assert status(GOOD) == ("taut", set())
    assert sentence("a", "b", "taut", GOOD, ()).startswith("a and b agree within 1.5 mm over 50 %")


def test_evidence_of_any_version_is_read_and_what_it_lacks_is_never_good_news() -> None:
    kept = GOOD.as_dict()
    assert Evidence.of(kept) == GOOD and Evidence.of({**kept, "of_a_later_version": 1}) == GOOD
    for field in set(kept) - {"schema"}:
        older = Evidence.of({k: v for k, v in kept.items() if k != field})
        assert older.missing == (field,)
        word, codes = status(older)
        assert word != "taut" and "old_evidence" in codes


def test_nothing_is_taut_in_an_adjustment_that_did_not_converge() -> None:
    found = judge(GOOD, Profile(), 0.0001, 3.0, "a · b", converged=False)
    assert found.status == "slack" and [r.code for r in found.reasons] == ["not_converged"]


@pytest.mark.parametrize(
    ("change", "code", "grossly"),
    [
        ({"see_through": 0.011}, "seen_through", {"see_through": 0.031}),
        ({"fit_rms": 0.0061}, "fit", {"fit_rms": 0.0181}),
        ({"overlap": 0.14}, "overlap", {"overlap": 0.019}),
        ({"weak_sigma": 0.0041}, "weak", {"weak_sigma": 0.11}),
        ({"patch_share": 0.06}, "patches", {"patch_share": 0.6}),
        ({"patches": 14}, "patches", {"patches": 10, "patch_share": 0.51}),
    ],
)
def test_over_a_tolerance_is_slack_and_grossly_over_it_is_parted(change: dict[str, float], code: str, grossly: dict[str, float]) -> None:
    assert status(replace(GOOD, **change)) == ("slack", {code})  # type: ignore[arg-type]
    assert status(replace(GOOD, **grossly)) == ("parted", {code})  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("change", "code"), [({"contradicted_m2": 0.06}, "contradicted"), ({"rival": 1.0}, "rival"), ({"distinct_m2": 2.9}, "bare")]
)
def test_nothing_is_taut_that_whole_things_contradict_or_that_may_be_another_place(change: dict[str, float], code: str) -> None:
    assert status(replace(GOOD, **change)) == ("slack", {code})  # type: ignore[arg-type]
    assert status(replace(GOOD, contradicted_m2=0.04)) == ("taut", set())  # within what moves on the site


def test_a_geometry_that_hardly_holds_is_said_even_when_its_deviation_looks_small() -> None:
    assert status(replace(GOOD, smallest=0.001)) == ("slack", {"weak"})


def test_the_network_speaks_only_where_others_control_the_link() -> None:
    assert status(GOOD, residual=0.0075) == ("slack", {"network"})
    assert status(GOOD, residual=0.031) == ("parted", {"network"})
    assert status(GOOD, residual=0.031, redundancy=0.1) == ("taut", set())


@pytest.mark.parametrize(
    ("weak", "normalized", "expected"), [(0.02, 1.2, "slack"), (0.02, 5.0, "parted"), (0.02, None, "slack"), (0.005, None, "parted")]
)
def test_a_gross_disagreement_parts_a_link_only_when_its_weak_direction_does_not_explain_it(
    weak: float, normalized: float | None, expected: str
) -> None:
    """50 mm off along what a link holds to 20 mm contradicts nobody; 5 deviations off do, and so does 50 mm where it claims 5."""
    found = judge(replace(GOOD, weak_sigma=weak), Profile(), 0.050, 3.0, "a · b", normalized)
    assert found.status == expected and {r.code for r in found.reasons} == {"network", "weak"}
    assert ("explains" in next(r.message for r in found.reasons if r.code == "network")) == (expected == "slack")


def test_a_link_that_the_network_does_not_reach_is_loose_whatever_its_evidence() -> None:
    assert status(GOOD, residual=None)[0] == "loose"
    assert status(replace(GOOD, see_through=0.5), residual=None) == ("loose", {"seen_through"})


def test_profiles_differ_in_what_they_ask() -> None:
    e = replace(GOOD, fit_rms=0.005)
    assert [status(e, profile=PROFILES[n])[0] for n in ("plant steelwork", "as-built", "topographic")] == ["slack", "taut", "taut"]
