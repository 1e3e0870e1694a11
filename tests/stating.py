"""STEP files that state tolerances of their faces, written entity by entity as other programs write them."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

from juxtum.exchange.cad import write_step

FIRST = 90_000
"""Number of the first entity that is added."""


class Stating:
    """A STEP file of a shape and what is stated of its faces.

    Parameters
    ----------
    shape : Any
        Of Open CASCADE, mm.
    path : Path
        Where it is written.
    """

    def __init__(self, shape: Any, path: Path) -> None:
        write_step(shape, path)
        self.path = path
        self.text = path.read_text()
        self.faces = [int(number) for number in re.findall(r"#(\d+) = ADVANCED_FACE", self.text)]
        """Number in the file of each face, in the order of the shape."""
        self.whole = int(re.findall(r"#(\d+) = PRODUCT_DEFINITION_SHAPE", self.text)[0])
        self._number, self._lines, self._targets = FIRST, list[str](), 0
        self.mm = self.add("( LENGTH_UNIT() NAMED_UNIT(*) SI_UNIT(.MILLI.,.METRE.) )")
        self.radian = self.add("( NAMED_UNIT(*) PLANE_ANGLE_UNIT() SI_UNIT($,.RADIAN.) )")

    def add(self, body: str) -> int:
        """Add an entity; its number."""
        self._number += 1
        self._lines.append(f"#{self._number} = {body};")
        return self._number

    def named(self, face: int, name: str) -> None:
        """Give a face (from 1) a name, written as the file has it."""
        number = self.faces[face - 1]
        self.text = re.sub(rf"(#{number} = ADVANCED_FACE\()'[^']*'", lambda found: f"{found[1]}'{name}'", self.text)

    def length(self, value: float, unit: int = 0) -> int:
        """A length, as tolerances have it."""
        return self.add(f"LENGTH_MEASURE_WITH_UNIT(LENGTH_MEASURE({value}),#{unit or self.mm})")

    def item(self, name: str, value: float, unit: int = 0) -> int:
        """A value of a size, with its name."""
        kind = "PLANE_ANGLE" if unit == self.radian else "LENGTH"
        measure = f"{kind}_MEASURE_WITH_UNIT() MEASURE_REPRESENTATION_ITEM()"
        return self.add(
            f"( {measure} MEASURE_WITH_UNIT({kind}_MEASURE({value}),#{unit or self.mm}) REPRESENTATION_ITEM('{name}') )"
        )

    def aspect(self, *faces: int, kind: str = "SHAPE_ASPECT") -> int:
        """What a tolerance is stated of: faces, from 1."""
        number = self.add(f"{kind}('','',#{self.whole},.T.)")
        for face in faces:
            self.add(f"GEOMETRIC_ITEM_SPECIFIC_USAGE('','',#{number},#{self.whole},#{self.faces[face - 1]})")
        return number

    def datum(self, letter: str, *faces: int) -> int:
        """A datum and its feature."""
        feature = self.aspect(*faces, kind="DATUM_FEATURE")
        datum = self.add(f"DATUM('','',#{self.whole},.F.,'{letter}')")
        self.add(f"SHAPE_ASPECT_RELATIONSHIP('','',#{feature},#{datum})")
        return datum

    def target(self, datum: int, place: tuple[float, float, float], form: str = "point", diameter: float = 0.0) -> int:
        """A target of a datum."""
        self._targets += 1
        aspect = self.add(f"PLACED_DATUM_TARGET_FEATURE('','{form}',#{self.whole},.T.,'{self._targets}')")
        self.add(f"SHAPE_ASPECT_RELATIONSHIP('','',#{aspect},#{datum})")
        about = self.add(f"PROPERTY_DEFINITION('','',#{aspect})")
        point = self.add(f"CARTESIAN_POINT('',({','.join(str(float(v)) for v in place)}))")
        along, across = (self.add(f"DIRECTION('',({v}))") for v in ("0.,0.,1.", "1.,0.,0."))
        items = [self.add(f"AXIS2_PLACEMENT_3D('orientation',#{point},#{along},#{across})")]
        if diameter:
            items.append(self.item("target diameter", diameter))
        context = re.findall(r"#(\d+) = \( ?GEOMETRIC_REPRESENTATION_CONTEXT\(3\)", self.text)[0]
        listed = ",".join(f"#{item}" for item in items)
        shown = self.add(f"SHAPE_REPRESENTATION_WITH_PARAMETERS('',({listed}),#{context})")
        self.add(f"SHAPE_DEFINITION_REPRESENTATION(#{about},#{shown})")
        return aspect

    def system(self, *datums: int | tuple[int, ...]) -> int:
        """Datums in their order; those in brackets are one common datum."""
        parts = []
        for datum in datums:
            base = f"#{datum}"
            if isinstance(datum, tuple):
                elements = [self.add(f"DATUM_REFERENCE_ELEMENT('','',#{self.whole},.F.,#{one},$)") for one in datum]
                base = f"COMMON_DATUM_LIST(({','.join(f'#{one}' for one in elements)}))"
            parts.append(self.add(f"DATUM_REFERENCE_COMPARTMENT('','',#{self.whole},.F.,{base},$)"))
        return self.add(f"DATUM_SYSTEM('','',#{self.whole},.F.,({','.join(f'#{one}' for one in parts)}))")

    def tolerance(self, kind: str, value: float, aspect: int, system: int = 0, *more: str) -> int:
        """A geometrical tolerance; further entities of the same statement as they are written."""
        base = f"'','',#{self.length(value)},#{aspect}"
        if not system and not more:
            return self.add(f"{kind}_TOLERANCE({base})")
        parts = [f"GEOMETRIC_TOLERANCE({base})", *more, f"{kind}_TOLERANCE()"]
        if system:
            parts.insert(1, f"GEOMETRIC_TOLERANCE_WITH_DATUM_REFERENCE((#{system}))")
        return self.add(f"( {' '.join(parts)} )")

    def zone(self, tolerance: int, form: str = "cylindrical or circular") -> int:
        """The form of a tolerance's zone."""
        made = self.add(f"TOLERANCE_ZONE_FORM('{form}')")
        return self.add(f"TOLERANCE_ZONE('','',#{self.whole},.F.,(#{tolerance}),#{made})")

    def size(self, dimension: str, items: list[int], limits: str = "") -> int:
        """A size, distance or angle with its values, and its limits where they are stated apart."""
        number = self.add(dimension)
        values = ",".join(f"#{item}" for item in items)
        shape = self.add(f"SHAPE_DIMENSION_REPRESENTATION('',({values}),#{self.whole})")
        self.add(f"DIMENSIONAL_CHARACTERISTIC_REPRESENTATION(#{number},#{shape})")
        if limits:
            self.add(f"PLUS_MINUS_TOLERANCE(#{self.add(limits)},#{number})")
        return number

    def range(self, lower: float, upper: float, unit: int = 0) -> str:
        """Limits of a size."""
        return f"TOLERANCE_VALUE(#{self.length(lower, unit)},#{self.length(upper, unit)})"

    def write(self) -> Path:
        """Write it with all that was added."""
        added = "\n".join(self._lines)
        before, behind = self.text.rsplit("ENDSEC;", 1)
        self.path.write_text(f"{before}{added}\nENDSEC;{behind}")
        return self.path
