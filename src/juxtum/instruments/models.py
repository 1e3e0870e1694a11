"""Instrument models: what an instrument can see, how fast, how near, and how well, in its modes and chains."""

from __future__ import annotations

import os
from enum import StrEnum
from importlib.resources import files
from pathlib import Path
from typing import Annotated, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, model_validator

from juxtum.errors import InputError
from juxtum.exchange.documents import Form, parse_document
from juxtum.exchange.limits import check_file
from juxtum.instruments.stated import Instrument, read_instrument

SCHEMA = "juxtum-instrument-2"
Text = Annotated[str, Field(min_length=1, max_length=120)]
Positive = Annotated[float, Field(gt=0, le=1e9, allow_inf_nan=False)]
NotNegative = Annotated[float, Field(ge=0, le=1e9, allow_inf_nan=False)]
Degrees = Annotated[float, Field(gt=0, le=180, allow_inf_nan=False)]


class Document(BaseModel):
    """What all parts of an instrument document have in common: frozen, no unknown fields."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class Kind(StrEnum):
    """What sort of instrument it is."""

    HANDHELD = "handheld"
    TRACKED = "tracked"
    HEAD = "structured light"
    PHOTO = "photo"
    PROBE = "probe"
    CABINET = "tomography"
    PROJECTOR = "projector"
    MACHINE = "measuring machine"


class Mode(Document):
    """One way of working.

    Parameters
    ----------
    stand_off : nearest, best and farthest distance to the surface, mm.
    field : width and height of the field of view at the best stand-off, mm.
    spacing : finest and coarsest point spacing, mm.
    rate : points per second.
    noise : standard deviation of a single point, mm.
    speed : travel of the field over the surface, mm/s.
    reach : how deep it sees into a hole, in diameters: small holes, large holes.
    incidence : largest angle between line of sight and surface normal, degrees.
    """

    name: Text
    pattern: Literal["cross", "parallel", "single", "area", "photo", "touch", "volume", "drawing"]
    lines: Annotated[int, Field(ge=0, le=1000)] = 0
    stand_off: tuple[NotNegative, NotNegative, Positive]
    field: tuple[Positive, Positive]
    spacing: tuple[Positive, Positive]
    rate: Positive
    noise: NotNegative
    speed: Positive = 100.0
    reach: tuple[NotNegative, NotNegative] = (2.0, 5.0)
    incidence: Degrees = 70.0
    dark: bool = False
    """Whether it copes with dark and glossy faces without a coat."""

    @model_validator(mode="after")
    def _ordered(self) -> Mode:
        near, best, far = self.stand_off
        if not near <= best <= far:
            raise ValueError("the stand-off must be given as nearest, best, farthest")
        if self.spacing[0] > self.spacing[1]:
            raise ValueError("the finest spacing must come before the coarsest")
        return self


def _renamed(needs: object) -> object:
    """What older documents call a network of reference points."""
    return "network" if needs == "backbone" else needs


class ErrorChain(Document):
    """A way to carry lengths, with its own maximum permissible error `a + b*L`.

    Parameters
    ----------
    a : constant part, mm.
    b : part that grows with length, mm per metre.
    longest : the length up to which the error is stated, mm.
    needs : what else it needs.
    setup_minutes : what it costs before the first point.
    within_field : whether it holds only for what is taken from one pose.
    repeatability : standard deviation of a place or size that is measured anew, mm; not contained in a and b. 0 where nobody stated it.
    """

    name: Text
    a: NotNegative
    b: NotNegative
    longest: Positive = 10_000.0
    needs: Annotated[Literal["nothing", "bars", "tracker", "network", "plate"], BeforeValidator(_renamed)] = "nothing"
    setup_minutes: NotNegative = 5.0
    modes: tuple[Text, ...] = ()
    """Modes it applies to; all of them when empty."""
    within_field: bool = False
    repeatability: NotNegative = 0.0

    def error(self, length: float) -> float:
        """Maximum permissible error over a length in mm, mm."""
        return self.a + self.b * length / 1000

    @property
    def words(self) -> str:
        """Both figures, for a list of facts."""
        again = f", repeatability {self.repeatability:.4f} mm" if self.repeatability > 0 else ""
        return f"{self.a:.3f} + {self.b:.3f} L/m{again}"


class TargetNeeds(Document):
    """What the instrument asks of reference targets: numbers, disc diameters in mm, noise of a centre in mm."""

    least: Annotated[int, Field(ge=3, le=50)] = 4
    bare: Annotated[int, Field(ge=3, le=50)] = 3
    diameters: Annotated[tuple[Positive, ...], Field(min_length=1, max_length=10)] = (6.0,)
    noise: Positive = 0.03
    pose_limit: Positive = 0.12
    """Largest standard uncertainty of a place on the surface that the pose may bring, mm."""
    incidence: Degrees = 55.0
    spacing: tuple[Positive, Positive] = (30.0, 100.0)


class TrackerNeeds(Document):
    """Working volume of a tracker and of the cage that it follows.

    Parameters
    ----------
    nearest, farthest : mm.
    across, upright : full opening angles of the volume, degrees.
    a, b : maximum permissible error of a place, mm and mm per metre of range.
    facing : largest angle between the cage's back and the line to the tracker, degrees.
    shared : reference targets that two stations must share.
    """

    nearest: Positive = 1200.0
    farthest: Positive = 4200.0
    across: Degrees = 70.0
    upright: Degrees = 50.0
    a: NotNegative = 0.04
    b: NotNegative = 0.02
    facing: Degrees = 110.0
    shared: Annotated[int, Field(ge=3, le=50)] = 4


class Camera(Document):
    """A photo camera: focal length and pixel in mm, picture in pixels, noise of a target's image in pixels."""

    focal: Positive = 24.0
    pixel: Positive = 0.0045
    picture: tuple[Annotated[int, Field(ge=100, le=50_000)], Annotated[int, Field(ge=100, le=50_000)]] = (6000, 4000)
    noise: Positive = 0.12
    least_targets: Annotated[int, Field(ge=3, le=1000)] = 8
    least_codes: Annotated[int, Field(ge=0, le=1000)] = 4
    incidence: Degrees = 60.0
    seconds_per_photo: Positive = 12.0


class ScaleBar(Document):
    """A certified length between two coded targets.

    Parameters
    ----------
    length : at 20 degrees Celsius, mm.
    uncertainty : expanded uncertainty from its certificate (k = 2), mm.
    expansion, expansion_u : coefficient of expansion and its standard uncertainty, 1e-6 per kelvin.
    """

    name: Text
    length: Positive
    uncertainty: Positive
    expansion: NotNegative = 1.2
    expansion_u: NotNegative = 0.3


class Turntable(Document):
    """Diameter in mm, load in kg, steps of a turn."""

    diameter: Positive = 400.0
    load: Positive = 30.0
    steps: tuple[Annotated[int, Field(ge=2, le=360)], Annotated[int, Field(ge=2, le=360)]] = (4, 180)
    seconds_per_step: Positive = 9.0


class MeasuringSpace(Document):
    """The space of a measuring machine, mm, and the heaviest part, kg."""

    size: tuple[Positive, Positive, Positive]
    load: Positive = 300.0


class MeasuringCylinder(Document):
    """The space in which a cabinet measures: mm and kg; how much steel it sees through, mm; minutes of one scan and of loading."""

    diameter: Positive
    height: Positive
    load: Positive = 20.0
    through: Positive = 60.0
    scan_minutes: Positive = 25.0
    loading_minutes: NotNegative = 4.0


class InstrumentModel(Document):
    """An instrument as a document that its owner can edit."""

    schema_name: Literal["juxtum-instrument-2"] = Field("juxtum-instrument-2", alias="schema")
    version: Annotated[int, Field(ge=1, le=100_000)] = 1
    id: Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9\-]{0,40}$")]
    name: Text
    kind: Kind
    modes: Annotated[tuple[Mode, ...], Field(min_length=1, max_length=20)]
    chains: Annotated[tuple[ErrorChain, ...], Field(min_length=1, max_length=20)]
    certificate: Annotated[str, Field(max_length=120)] = ""
    certificate_u: NotNegative = 0.0
    certificate_k: Annotated[float, Field(gt=0, le=10)] = 2.0
    targets: TargetNeeds | None = None
    tracker: TrackerNeeds | None = None
    camera: Camera | None = None
    bars: Annotated[tuple[ScaleBar, ...], Field(max_length=20)] = ()
    turntable: Turntable | None = None
    cylinder: MeasuringCylinder | None = None
    space: MeasuringSpace | None = None
    laser_class: Annotated[str, Field(max_length=10)] = ""
    weight: NotNegative = 1.0
    warm_up_minutes: NotNegative = 10.0
    calibration_minutes: NotNegative = 5.0
    cost_per_hour: NotNegative = 50.0
    """In whatever money the shop counts; only its ratio to other instruments matters."""

    @model_validator(mode="after")
    def _consistent(self) -> InstrumentModel:
        names = [mode.name for mode in self.modes]
        if len(set(names)) < len(names) or len({c.name for c in self.chains}) < len(self.chains):
            raise ValueError("modes and methods must have names of their own")
        for chain in self.chains:
            if unknown := set(chain.modes) - set(names):
                raise ValueError(
                    f"method '{chain.name}' names a mode that does not exist: {', '.join(sorted(unknown))}"
                )
        return self

    def mode(self, name: str = "") -> Mode:
        """A mode by its name; the first one when none is named.

        Raises
        ------
        InputError
            When there is no such mode.
        """
        if not name:
            return self.modes[0]
        for mode in self.modes:
            if mode.name == name:
                return mode
        raise InputError(
            f"{self.name} has no mode '{name}'", next=f"Modes are: {', '.join(m.name for m in self.modes)}"
        )

    def chain(self, name: str = "") -> ErrorChain:
        """A chain by its name; the first one when none is named.

        Raises
        ------
        InputError
            When there is no such chain.
        """
        if not name:
            return self.chains[0]
        for chain in self.chains:
            if chain.name == name:
                return chain
        raise InputError(
            f"{self.name} has no method '{name}'", next=f"Methods are: {', '.join(c.name for c in self.chains)}"
        )

    def modes_of(self, chain: ErrorChain) -> tuple[Mode, ...]:
        """The modes in which a chain can be used."""
        return tuple(m for m in self.modes if not chain.modes or m.name in chain.modes)

    def as_instrument(self, chain: ErrorChain) -> Instrument:
        """What the uncertainty of a measurement needs to know of it."""
        return Instrument(
            name=f"{self.name}, {chain.name}",
            a=chain.a,
            b=chain.b,
            repeatability=chain.repeatability,
            certificate=self.certificate,
            certificate_u=self.certificate_u,
            certificate_k=self.certificate_k,
        )


def parse_instrument(data: bytes, where: str) -> InstrumentModel:
    """An instrument model from its JSON document.

    Raises
    ------
    InputError
        When it is not JSON or says something impossible.
    """
    try:
        return parse_document(data, where, Form(InstrumentModel, "an instrument", "See docs/instrument-format.md"))
    except InputError as problem:
        if "schema" in problem.what and b"juxtum-instrument-1" in data:
            raise InputError(
                "this document only knows a length error",
                where,
                "Planning needs juxtum-instrument-2; see docs/instrument-format.md",
            ) from problem
        raise


def read_instrument_model(path: Path) -> InstrumentModel:
    """Read an instrument model from a file.

    Raises
    ------
    InputError
    """
    if check_file(path) > 1_000_000:
        raise InputError("this is too large to be an instrument", str(path), "Give an instrument document in JSON")
    return parse_instrument(path.read_bytes(), str(path))


def shipped_instruments() -> tuple[InstrumentModel, ...]:
    """The invented instruments that ship with the application, in the order in which they are offered."""
    folder = files("juxtum.instruments").joinpath("data")
    found = sorted((entry for entry in folder.iterdir() if entry.name.endswith(".json")), key=lambda entry: entry.name)
    return tuple(parse_instrument(entry.read_bytes(), entry.name) for entry in found)


def shipped(kind: Kind) -> InstrumentModel:
    """The shipped instrument of a kind."""
    return next(model for model in shipped_instruments() if model.kind is kind)


ALSO_CALLED = {"head": Kind.HEAD, "camera": Kind.PHOTO, "cabinet": Kind.CABINET, "machine": Kind.MACHINE}


def instrument_named(text: str) -> InstrumentModel:
    """An instrument by its file, or one of those that ship by its kind or id.

    Raises
    ------
    InputError

    Examples
    --------
    >>> instrument_named("handheld").id
    'wh-3'
    """
    if _is_file(text):
        return read_instrument_model(Path(text))
    for model in shipped_instruments():
        if text in (model.kind.value, model.id) or ALSO_CALLED.get(text) is model.kind:
            return model
    names = ", ".join(f"{m.kind} ({m.id})" for m in shipped_instruments())
    raise InputError(
        f"no instrument called '{text}' ships with Juxtum", "--instrument", f"Name a document, or one of {names}"
    )


def stated_instrument(text: str, chain: str = "") -> Instrument:
    """What a verdict needs to know of an instrument: from a document of either kind, or of one of those that ship.

    Raises
    ------
    InputError
    """
    if _is_file(text) and b"juxtum-instrument-2" not in _start_of(Path(text)):
        return read_instrument(Path(text))
    model = instrument_named(text)
    return model.as_instrument(model.chain(chain))


def _is_file(text: str) -> bool:
    return text.endswith(".json") or "/" in text or os.path.isfile(text)


def _start_of(path: Path) -> bytes:
    check_file(path)
    with path.open("rb") as file:
        return file.read(1_000_000)
