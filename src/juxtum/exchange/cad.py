"""STEP and IGES through Open CASCADE; imported late because that takes over a second."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from juxtum.errors import InputError
from juxtum.exchange.limits import check_file, read_head

CAD_SUFFIXES = (".step", ".stp", ".iges", ".igs")
_UNIT_NAMES = {
    "millimetre": "mm", "millimeter": "mm", "mm": "mm",
    "centimetre": "cm", "centimeter": "cm", "cm": "cm",
    "metre": "m", "meter": "m", "m": "m",
    "inch": "in", "in": "in",
}  # fmt: skip
_IGES_UNITS = {1: "in", 2: "mm", 4: "ft", 6: "m", 10: "cm", 9: "\u00b5m", 8: "mil"}


@dataclass(frozen=True, eq=False)
class CadShape:
    """A shape of Open CASCADE in millimetres, the unit that its file was written in, and of STEP what read it."""

    shape: Any
    file_unit: str
    solids: int
    reader: Any = None


def read_cad(path: Path) -> CadShape:
    """Read the solids of a STEP or IGES file, in millimetres.

    Raises
    ------
    InputError
        When the file is not what its name says, is damaged, or holds no solid or face.
    """
    check_file(path)
    if path.suffix.lower() in (".step", ".stp"):
        shape, unit, reader = _read_step(path)
    else:
        (shape, unit), reader = _read_iges(path), None
    return replace(_checked(shape, unit, path), reader=reader)


def _read_step(path: Path) -> tuple[Any, str, Any]:
    if b"ISO-10303-21" not in read_head(path, 2048):
        raise InputError("this is not a STEP file", str(path), "Export the model as STEP AP203, AP214 or AP242")
    if b"END-ISO-10303-21" not in _tail(path):
        raise InputError("the STEP file ends too early", str(path), "Copy or export it again")
    from OCP.collections import Sequence_TCollection_AsciiString as Names
    from OCP.IFSelect import IFSelect_ReturnStatus
    from OCP.STEPControl import STEPControl_Reader

    _quiet()
    reader = STEPControl_Reader()
    if _guarded(lambda: reader.ReadFile(_plain_name(path)), path) != IFSelect_ReturnStatus.IFSelect_RetDone:
        raise InputError("the STEP file cannot be understood", str(path), "Export the model again")
    _guarded(reader.TransferRoots, path)
    lengths, angles, solid_angles = Names(), Names(), Names()
    reader.FileUnits(lengths, angles, solid_angles)
    name = lengths.Value(1).ToCString().lower() if lengths.Size() else "millimetre"
    return reader.OneShape(), _UNIT_NAMES.get(name, name), reader


def _read_iges(path: Path) -> tuple[Any, str]:
    head = read_head(path, 81 * 3)
    if len(head) < 80 or head[72:73] not in (b"S", b"C", b"B"):
        raise InputError("this is not an IGES file", str(path), "Export the model as IGES 5.3 or as STEP")
    from OCP.IFSelect import IFSelect_ReturnStatus
    from OCP.IGESControl import IGESControl_Reader

    _quiet()
    reader = IGESControl_Reader()
    if _guarded(lambda: reader.ReadFile(_plain_name(path)), path) != IFSelect_ReturnStatus.IFSelect_RetDone:
        raise InputError("the IGES file cannot be understood", str(path), "Export the model again, best as STEP")
    _guarded(reader.TransferRoots, path)
    flag = int(reader.IGESModel().GlobalSection().UnitFlag())
    return reader.OneShape(), _IGES_UNITS.get(flag, "mm")


def _guarded(call: Any, path: Path) -> Any:
    """The library reports damage by exceptions of its own kinds."""
    from OCP.Standard import Standard_Failure

    try:
        return call()
    except (Standard_Failure, RuntimeError, TypeError, ValueError) as problem:
        raise InputError("the model is damaged", str(path), "Export it again") from problem


def _checked(shape: Any, unit: str, path: Path) -> CadShape:
    from OCP.TopAbs import TopAbs_ShapeEnum

    if shape is None or shape.IsNull():
        raise InputError("the file holds no shape", str(path), "Export the solid body of the part")
    solids = count_of(shape, TopAbs_ShapeEnum.TopAbs_SOLID)
    if solids == 0:
        if count_of(shape, TopAbs_ShapeEnum.TopAbs_FACE) == 0:
            raise InputError("the file holds no solid", str(path), "Export the solid body of the part, not its wires")
        shape = _guarded(lambda: _sewn(shape), path)
        solids = count_of(shape, TopAbs_ShapeEnum.TopAbs_SOLID)
    return CadShape(shape, unit, solids)


def _sewn(shape: Any) -> Any:
    """Faces joined (IGES often comes as loose faces): every shell that closes becomes a solid, the others stay shells."""
    from OCP.BRep import BRep_Builder, BRep_Tool
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeSolid, BRepBuilderAPI_Sewing
    from OCP.BRepLib import BRepLib
    from OCP.TopAbs import TopAbs_ShapeEnum
    from OCP.TopExp import TopExp_Explorer
    from OCP.TopoDS import TopoDS, TopoDS_Compound

    sewing = BRepBuilderAPI_Sewing(1e-3)
    sewing.Add(shape)
    sewing.Perform()
    sewed = sewing.SewedShape()
    builder, result, count = BRep_Builder(), TopoDS_Compound(), 0
    builder.MakeCompound(result)
    walk = TopExp_Explorer(sewed, TopAbs_ShapeEnum.TopAbs_SHELL)
    while walk.More():
        shell = TopoDS.Shell(walk.Current())
        walk.Next()
        count += 1
        if not BRep_Tool.IsClosed_s(shell):
            builder.Add(result, shell)
            continue
        solid = BRepBuilderAPI_MakeSolid(shell).Solid()
        BRepLib.OrientClosedSolid_s(solid)
        builder.Add(result, solid)
    if count == 0:
        return sewed
    lone = TopExp_Explorer(sewed, TopAbs_ShapeEnum.TopAbs_FACE, TopAbs_ShapeEnum.TopAbs_SHELL)
    while lone.More():
        builder.Add(result, lone.Current())
        lone.Next()
    return result


def count_of(shape: Any, kind: Any) -> int:
    """How many parts of a kind (solids, faces) a shape holds."""
    from OCP.TopExp import TopExp_Explorer

    walk, number = TopExp_Explorer(shape, kind), 0
    while walk.More():
        number += 1
        walk.Next()
    return number


def _tail(path: Path) -> bytes:
    with path.open("rb") as file:
        file.seek(max(0, path.stat().st_size - 4096))
        return file.read()


def _plain_name(path: Path) -> str:
    """A name that the library can open; others are reached through a link in a temporary folder."""
    name = str(path.resolve())
    if name.isascii():
        return name
    import os
    import tempfile

    link = Path(tempfile.mkdtemp(prefix="juxtum-")) / f"model{path.suffix.lower()}"
    os.symlink(path.resolve(), link)
    return str(link)


def _quiet() -> None:
    """The library writes its messages to standard output; a command line has other use for that."""
    from OCP.Message import Message

    messenger = Message.DefaultMessenger_s()
    while messenger.Printers().Size() > 0:
        messenger.RemovePrinter(messenger.Printers().First())


def write_step(shape: Any, path: Path) -> None:
    """Write a shape of Open CASCADE as STEP in millimetres."""
    from OCP.IFSelect import IFSelect_ReturnStatus
    from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer

    _quiet()
    writer = STEPControl_Writer()
    writer.Transfer(shape, STEPControl_StepModelType.STEPControl_AsIs)
    if writer.Write(str(path)) != IFSelect_ReturnStatus.IFSelect_RetDone:
        raise InputError("the STEP file could not be written", str(path), "Check the folder and the free space")


def write_iges(shape: Any, path: Path) -> None:
    """Write a shape of Open CASCADE as IGES in millimetres."""
    from OCP.IGESControl import IGESControl_Writer

    _quiet()
    writer = IGESControl_Writer("MM", 1)
    writer.AddShape(shape)
    writer.ComputeModel()
    if not writer.Write(str(path)):
        raise InputError("the IGES file could not be written", str(path), "Check the folder and the free space")
