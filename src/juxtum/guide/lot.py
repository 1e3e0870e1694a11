"""What is said of a lot: a row for each part."""

from __future__ import annotations

from juxtum.evaluate.decision import Verdict
from juxtum.job.lot import LotRow


def verdict_words(row: LotRow) -> str:
    """What came of a part, in a word or two.

    Examples
    --------
    >>> verdict_words(LotRow("part 1"))
    'nothing asked'
    """
    if row.problem:
        return "failed"
    if not row.verdicts:
        return "nothing asked"
    bad = [line.line.id for line in row.ledger if line.verdict is Verdict.DOES_NOT_CONFORM]
    open_ = [line.line.id for line in row.ledger if line.verdict is Verdict.NOT_DECIDED]
    walls = None if row.walls is None else row.walls.verdict
    bad += ["walls"] if walls is Verdict.DOES_NOT_CONFORM else []
    open_ += ["walls"] if walls is Verdict.NOT_DECIDED else []
    words = []
    if bad:
        words.append(f"not {', '.join(bad)}")
    if open_:
        words.append(f"open {', '.join(open_)}")
    return "; ".join(words) or "all conform"


def lot_words(rows: tuple[LotRow, ...]) -> str:
    """The lot in a sentence: how many conform, and which do not."""
    good = [
        row for row in rows if not row.problem and row.verdicts and row.count(Verdict.CONFORMS) == len(row.verdicts)
    ]
    words = f"{len(good)} of {len(rows)} parts conform in all that is asked"
    failed = [row for row in rows if row.problem]
    if failed:
        words += f"; {failed[0].name}: {failed[0].problem}"
        return words
    bad = [row.name for row in rows if row.count(Verdict.DOES_NOT_CONFORM)]
    if bad:
        words += f"; {', '.join(bad)} {'does' if len(bad) == 1 else 'do'} not"
    return f"{words}."
