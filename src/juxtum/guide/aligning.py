"""What is said of ways to align."""

from __future__ import annotations

from juxtum.job.steps import ReferencePlace


def held_words(points: tuple[ReferencePlace, ...]) -> str:
    """How many directions reference points hold, and what that means."""
    count = sum(len(point.held) for point in points)
    if count < 6:
        return f"{count} directions are held; 6 fix the part. What is left free stays where it is, and is noted."
    if count == 6:
        return "6 directions are held: 3 on a plane, 2 on a line and 1 at a point fix the part."
    return f"{count} directions are held where 6 fix the part: they are evened out, and the worst is named."
