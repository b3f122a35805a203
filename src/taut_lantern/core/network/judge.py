"""From evidence to a word: taut, slack, parted or loose, with every reason as a finding.

Evidence before belief: a link is taut only when nothing speaks against it.
"""

from __future__ import annotations

from dataclasses import asdict, dataclass

from ..align.contradiction import BARE
from ..align.evidence import Evidence
from ..errors import Finding


@dataclass(frozen=True)
class Profile:
    """Tolerances of a project; lengths in metres, shares 0..1."""

    name: str = "as-built"
    fit: float = 0.006
    overlap_taut: float = 0.15
    overlap_slack: float = 0.04
    see_through: float = 0.010
    weak: float = 0.004
    control: float = 0.010

    def as_dict(self) -> dict[str, object]:
        return asdict(self)


PROFILES = {
    "as-built": Profile(),
    "plant steelwork": Profile("plant steelwork", 0.004, 0.20, 0.05, 0.008, 0.003, 0.005),
    "topographic": Profile("topographic", 0.015, 0.10, 0.03, 0.030, 0.010, 0.025),
}


EXPLAINED = 3.5  # normalised residual up to which a disagreement is what the link itself expects


@dataclass(frozen=True)
class Judgement:
    status: str
    reasons: tuple[Finding, ...]


def judge(
    e: Evidence,
    p: Profile,
    residual: float | None,
    redundancy: float,
    subject: str,
    normalized: float | None = None,
    converged: bool = True,
) -> Judgement:
    """Status of a cloud-to-cloud link. residual : metres after adjustment, None when not adjusted.

    redundancy : 0..6; a residual says something only when others control the link. normalized : the residual in units of
    the deviation that link and network claim, None when the link took no part. A gross residual parts a link only when
    what it claims does not explain it: along its weak direction a link may be far off and still not contradict anybody.
    """
    found: list[Finding] = []

    def against(code: str, message: str, fault: bool) -> None:
        found.append(Finding(code, subject, message, "fault" if fault else "doubt"))

    if e.missing:
        against("old_evidence", "its evidence was kept by another version and lacks what is asked today: tie it again", False)
    if e.see_through > p.see_through:
        against(
            "seen_through",
            f"seen through: {100 * e.see_through:.1f} % stands where the other looked freely",
            e.see_through > 3 * p.see_through,
        )
    if e.contradicted_m2 > e.allowed_m2:
        against("contradicted", f"things of {e.contradicted_m2:.2f} m² stand where the other looked freely", False)
    if e.distinct_m2 < BARE and not e.missing:
        said = f"of what both saw only {e.distinct_m2:.1f} m² is more than bare walls and floors: a place that looks alike fits as well"
        against("bare", said, False)
    if e.rival > 0:
        against("rival", "one of its stations fits as well in another place", False)
    if e.fit_rms > p.fit:
        against("fit", f"fit {1000 * e.fit_rms:.1f} mm is over {1000 * p.fit:.1f} mm", e.fit_rms > 3 * p.fit)
    if e.overlap < p.overlap_taut:
        against("overlap", f"overlap {100 * e.overlap:.0f} % is below {100 * p.overlap_taut:.0f} %", e.overlap < p.overlap_slack / 2)
    if e.weak_sigma > p.weak:
        against("weak", f"weak direction: ±{1000 * e.weak_sigma:.1f} mm", e.weak_sigma > 0.1)
    elif e.smallest < 2e-3:
        against("weak", "the geometry hardly holds one direction", False)
    if e.patch_share > 0.05 or e.patches < 15:
        against("patches", f"{100 * e.patch_share:.0f} % of {e.patches} patches stand off by more than 5 mm", e.patch_share > 0.5)
    if residual is not None and redundancy > 0.5 and residual > p.fit:
        explained = residual <= 3 * e.weak_sigma if normalized is None else normalized < EXPLAINED
        because = f", which its weak direction of ±{1000 * e.weak_sigma:.1f} mm explains" if explained and e.weak_sigma > p.weak else ""
        said = f"the rest of the network disagrees by {1000 * residual:.1f} mm{because}"
        against("network", said, residual > 5 * p.fit and not explained)
    if residual is not None and not converged:
        against("not_converged", "the adjustment did not converge: its residual says nothing", False)
    if residual is None:
        return Judgement("loose", tuple(found))
    if any(f.severity == "fault" for f in found):
        return Judgement("parted", tuple(found))
    return Judgement("slack" if found else "taut", tuple(found))


def sentence(a: str, b: str, status: str, e: Evidence, reasons: tuple[Finding, ...]) -> str:
    """What a colleague would say of this link."""
    base = f"{a} and {b} agree within {1000 * e.fit_rms:.1f} mm over {100 * e.overlap:.0f} % of what both saw."
    if status == "taut":
        return base + f" Held to ±{1000 * e.weak_sigma:.1f} mm in its weakest direction."
    if status == "parted":
        return f"{a} and {b} contradict each other: " + "; ".join(r.message for r in reasons if r.severity == "fault") + "."
    if status == "loose":
        return f"{a} and {b} are not part of the adjusted network: the link is switched off or not computed."
    return base + " But " + "; ".join(r.message for r in reasons) + "."
