"""Groups of scans that hang together."""

from __future__ import annotations

from dataclasses import dataclass

from juxtum.geometry import RigidTransform


@dataclass(frozen=True, eq=False)
class Group:
    """Scans by their places in the list, with their poses in the group's own frame."""

    poses: dict[int, RigidTransform]


def merged(first: Group, second: Group, move: RigidTransform) -> Group:
    """Both in the first one's frame."""
    return Group(first.poses | {k: move @ pose for k, pose in second.poses.items()})
