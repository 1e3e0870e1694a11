"""The photographer's walk: each photo judged as it is taken, then all of them adjusted together."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.devices.link import Link, ask
from juxtum.devices.protocol import DeviceError, Message
from juxtum.errors import FitError
from juxtum.geometry.arrays import Bools, Floats, Ints, frozen
from juxtum.geometry.kdtree import kd_tree
from juxtum.plan.photos.bundle import Adjusted, BarTie, Lens, Network, Photos, Rays, adjust
from juxtum.plan.photos.photos import PhotoPlan
from juxtum.plan.photos.walk import PhotoVerdict, TargetRays, check_photo, incidences, target_table
from juxtum.progress import Progress, silent


@dataclass(frozen=True, eq=False)
class TakenPhoto:
    """A photo as the camera delivers it.

    Parameters
    ----------
    targets : array (N,)
        Which targets it shows.
    places : array (N, 2)
        Where in the picture, mm.
    eye, rotation : array (3,), array (3, 3)
        Where it was taken from, as far as anyone knows.
    """

    targets: Ints
    places: Floats
    eye: Floats
    rotation: Floats


class PhotoWalk:
    """A walk along a planned network.

    Parameters
    ----------
    plan : PhotoPlan
    bars : tuple of BarTie
        As the camera's document says; the plan's when not given.
    """

    def __init__(self, plan: PhotoPlan, bars: tuple[BarTie, ...] | None = None) -> None:
        self.plan = plan
        first = len(plan.points) - 2 * len(plan.bars)
        own = tuple(BarTie(first + 2 * k, first + 2 * k + 1, b.length, b.uncertainty) for k, b in enumerate(plan.bars))
        self.bars = own if bars is None else bars
        self.photos: list[TakenPhoto] = []
        self.verdicts: list[PhotoVerdict] = []

    def request(self, index: int) -> Message:
        """What is sent for a planned photo."""
        views = self.plan.views
        fields = {
            name: [round(float(v), 3) for v in rows[index]]
            for name, rows in (("eye", views.eyes), ("axis", views.axes), ("up", views.ups))
        }
        return Message("shoot", fields)

    def take(self, message: Message) -> PhotoVerdict:
        """Take a photo in and judge it.

        Raises
        ------
        DeviceError
            When it names targets that do not exist.
        """
        rays = message.table("rays", 3)
        numbers = rays[:, 0].astype(np.int64)
        if len(numbers) and (numbers.min() < 0 or numbers.max() >= len(self.plan.points)):
            raise DeviceError("a photo names a target that does not exist", "camera", "Check the numbers of the codes")
        eye, rotation = message.vector("eye"), message.vector("rotation", 9).reshape(3, 3)
        self.photos.append(TakenPhoto(numbers, rays[:, 1:], eye, rotation))
        seen = self.seen()
        angles = incidences(self.plan.points, self.plan.normals, eye[None])[0]
        verdict = check_photo(self.plan.camera, seen[-1], seen[:-1], self.plan.codes, angles)
        self.verdicts.append(verdict)
        return verdict

    def discard_last(self) -> None:
        """Take the last photo away."""
        if self.photos:
            self.photos.pop()
            self.verdicts.pop()

    def seen(self) -> Bools:
        """Which photos show which targets (M, T)."""
        seen = np.zeros((len(self.photos), len(self.plan.points)), dtype=bool)
        for k, photo in enumerate(self.photos):
            seen[k, photo.targets] = True
        return seen

    def table(self) -> tuple[TargetRays, ...]:
        """Every target by its rays and the largest angle between them."""
        return target_table(self.plan.points, np.array([p.eye for p in self.photos]).reshape(-1, 3), self.seen())

    def adjust(self) -> tuple[Adjusted, Bools]:
        """Everything together, and which targets (T,) are in it: those with rays enough.

        Raises
        ------
        FitError
            When too little was photographed.
        """
        seen = self.seen()
        usable = seen.sum(0) >= 3
        good = (seen & usable).sum(1) >= 4
        usable &= seen[good].sum(0) >= 3
        if usable.sum() < 6 or good.sum() < 3:
            raise FitError(
                f"{int(usable.sum())} targets and {int(good.sum())} photos are too few to adjust",
                "photos",
                "Take more photos",
            )
        bars = tuple(bar for bar in self.bars if usable[bar.first] and usable[bar.second])
        if not bars:
            raise FitError("no scale bar is in enough photos", "photos", "Take photos of the bars")
        new = np.cumsum(usable) - 1
        photos, targets, places = list[int](), list[int](), list[Floats]()
        kept = [p for p, ok in zip(self.photos, good, strict=True) if ok]
        for k, photo in enumerate(kept):
            rows = usable[photo.targets]
            photos += [k] * int(rows.sum())
            targets += [int(new[t]) for t in photo.targets[rows]]
            places.append(photo.places[rows])
        camera = self.plan.camera
        rays = Rays(np.array(photos), np.array(targets), frozen(np.concatenate(places)), camera.noise * camera.pixel)
        poses = Photos(np.array([p.rotation for p in kept]), np.array([p.eye for p in kept]))
        ties = tuple(BarTie(int(new[b.first]), int(new[b.second]), b.length, b.uncertainty) for b in bars)
        network = Network(np.array(self.plan.points[usable]), poses, rays, ties, Lens(camera.focal), True)
        return adjust(network, steps=30), usable


def map_rows(walk: PhotoWalk, planned: Floats) -> list[list[float]]:
    """The adjusted targets as a scanner takes them for its map: handle, place, sightings.

    Parameters
    ----------
    planned : array (N, 3)
        Where the plan wants the reference targets; their rows are the handles.

    Raises
    ------
    FitError
    """
    adjusted, usable = walk.adjust()
    away, rows = kd_tree(walk.plan.points[usable]).query(planned)
    return [
        [float(k), *map(float, adjusted.points[row]), 1.0]
        for k, (d, row) in enumerate(zip(away, rows, strict=True))
        if d < 0.01
    ]


def begin_walk(plan: PhotoPlan, link: Link) -> PhotoWalk:
    """A walk with the bars that the camera's own document names.

    Raises
    ------
    DeviceError
    """
    about = ask(link, Message("hello", {"version": 1}), "about")
    bars = tuple(BarTie(int(a), int(b), length, u) for a, b, length, u in about.table("bars", 4))
    if any(not 0 <= end < len(plan.points) for bar in bars for end in (bar.first, bar.second)):
        raise DeviceError(
            "the camera names a bar whose ends are not planned",
            "camera",
            "Use the camera with the plan that it was set up for",
        )
    return PhotoWalk(plan, bars or None)


def walk_along(walk: PhotoWalk, link: Link, most: int | None = None, progress: Progress | None = None) -> None:
    """Take the planned photos that are left, or so many of them."""
    progress = progress or silent()
    first, last = len(walk.photos), len(walk.plan.views)
    last = last if most is None else min(first + most, last)
    for index in range(first, last):
        progress.phase(f"photo {index + 1} of {len(walk.plan.views)}", (index - first) / max(last - first, 1))
        walk.take(ask(link, walk.request(index), "photo"))
