"""What is said of scans that are joined: rows of their list, ties, loops."""

from __future__ import annotations

from dataclasses import dataclass

from juxtum.align.scans.proposing import BY_ONE, BY_SHAPE
from juxtum.align.scans.ties import Tie
from juxtum.assemble.assembling import Tied
from juxtum.guide.facts import thousands
from juxtum.guide.known import Known
from juxtum.wording import percent


@dataclass(frozen=True)
class ScanRow:
    """One row of the list.

    Parameters
    ----------
    name : str
        What steps call it by.
    file : str
    points : str
    state : str
        In a word or two.
    doubt : str
        What is to be known about it; empty where there is nothing.
    is_joined : bool
        Whether it is made of the others.
    """

    name: str
    file: str
    points: str
    state: str
    doubt: str = ""
    is_joined: bool = False


@dataclass(frozen=True)
class TieRow:
    """A tie of the ring: which beads, how much they have in common, how well it fits.

    Parameters
    ----------
    share : float
        0 to 1.
    misfit : float
        0 for what fits as well as the noise lets it, 1 for three times that and more.
    """

    first: str
    second: str
    share: float
    misfit: float
    is_used: bool
    words: str


def about_words(row: ScanRow) -> str:
    """What a row is, and what is to be known about it.

    Examples
    --------
    >>> about_words(ScanRow("scan 2", "b.ply", "9", "tied"))
    'scan 2 is b.ply.'
    """
    words = f"{row.name} is {row.file}"
    return f"{words}; {row.doubt}." if row.doubt else f"{words}."


def scan_rows(d: Known) -> list[ScanRow]:
    """All scans, and last what is joined of them."""
    join = d.job.join_in_force
    rows = []
    for brought in d.brought:
        state, doubt = "", ""
        if join is not None and brought.name in join.scans:
            state, doubt = _state_of(brought.name, d)
        count = thousands(len(brought.scan.points))
        rows.append(ScanRow(brought.name, brought.file, count, state, doubt))
    if join is not None and d.loaded is not None:
        count = thousands(len(d.loaded.scan.points))
        rows.append(ScanRow(join.name, "one surface of all that are tied", count, "in force", is_joined=True))
    return rows


def _state_of(name: str, d: Known) -> tuple[str, str]:
    join = d.job.join_in_force
    assert join is not None
    if name in join.left_out:
        return "left out", "not used: 'Take it in' uses it again"
    if d.tied is None:
        return "", ""
    at = join.used.index(name)
    reason = d.tied.joined.reasons[at]
    if d.tied.joined.poses[at] is None:
        return "not tied", reason
    if at == d.tied.joined.anchor:
        return "stays", "the others are laid onto it"
    if reason in (BY_SHAPE, BY_ONE):
        return "by shape", reason
    return ("tied, in doubt" if reason else "tied"), reason


def tie_rows(tied: Tied) -> list[TieRow]:
    """Every tie, the largest overlaps first."""
    names = [brought.name for brought in tied.scans]
    noise = max(tied.joined.noise, 1e-9)
    rows = [
        TieRow(
            names[tie.first],
            names[tie.second],
            tie.overlap.share,
            min(max((tie.overlap.rms / noise - 1) / 2, 0.0), 1.0),
            tie.is_used,
            _tie_words(tie, names, tied),
        )
        for tie in tied.joined.ties
    ]
    return sorted(rows, key=lambda row: -row.share)


def _tie_words(tie: Tie, names: list[str], tied: Tied) -> str:
    both = f"{names[tie.first]} and {names[tie.second]}"
    if not tie.is_used:
        return f"{both}: not used, {tie.reason}"
    words = f"{both}: {percent(tie.overlap.share)} in common, {tie.overlap.rms:.3f} mm RMS"
    if tie.free:
        words += f"; by itself {' and '.join(tie.free)}"
    loops = [loop for loop in tied.joined.loops if {tie.first, tie.second} <= set(loop.scans)]
    if loops:
        worst = max(loops, key=lambda loop: loop.before_mm)
        words += f"; its loop was open by {worst.before_mm:.3f} mm, its scans lie within {worst.after_mm:.3f} mm of what their ties say"
    return words


def joined_words(tied: Tied) -> str:
    """All in a sentence or two: how many are tied, and what became of the loops."""
    joined = tied.joined
    count = sum(pose is not None for pose in joined.poses)
    words = f"{count} of {len(joined.poses)} scans are tied, {joined.noise:.3f} mm apart where they overlap."
    if not joined.loops:
        return f"{words} No loop closes: nothing checks the ties but themselves."
    before, after = max(loop.before_mm for loop in joined.loops), max(loop.after_mm for loop in joined.loops)
    loops = "The loop" if len(joined.loops) == 1 else f"The worst of {len(joined.loops)} loops"
    return f"{words} {loops} was open by {before:.3f} mm; its scans lie within {after:.3f} mm of what their ties say."
