"""Arguments of the command line."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import NoReturn

from juxtum import __version__
from juxtum.cli.parser_plan import add_capture, add_device, add_plan
from juxtum.cli.values import count, length, positive, series, share, temperature, unit
from juxtum.errors import InputError


class _Parser(argparse.ArgumentParser):
    """Complains in one line, as all other errors do."""

    def error(self, message: str) -> NoReturn:
        raise InputError(message, self.prog if " " in self.prog else "", f"See '{self.prog} --help'")


def make_parser() -> argparse.ArgumentParser:
    """The parser of `juxtum`."""
    parser = _Parser(prog="juxtum", description="Puts a manufactured part beside its drawing.", allow_abbrev=False)
    parser.add_argument("--version", action="version", version=f"juxtum {__version__}")
    commands = parser.add_subparsers(dest="command", metavar="COMMAND")
    _add_inspect(commands)
    _add_section(commands)
    _add_run(commands)
    add_plan(commands)
    add_capture(commands)
    add_device(commands)
    _add_register(commands)
    _add_assemble(commands)
    _add_separate(commands)
    _add_finish(commands)
    _add_gap(commands)
    _add_fit(commands)
    info = commands.add_parser("info", help="what a file holds")
    info.add_argument("file", type=Path, metavar="FILE")
    info.add_argument("--faces", action="store_true", help="each face of a nominal, with its size and place")
    info.add_argument("--json", action="store_true", help="print JSON")
    opened = commands.add_parser("open", help="open the desk")
    opened.add_argument("files", type=Path, nargs="*", metavar="FILE")
    demo = commands.add_parser("demo", help="open the desk on the demo job")
    demo.add_argument(
        "--out", type=Path, default=Path("demo-out"), metavar="DIR", help="for a machine without a display"
    )
    commands.add_parser("prepare", help="make the demo scan and warm the caches")
    return parser


def _add_run(commands: argparse._SubParsersAction[_Parser]) -> None:
    run = commands.add_parser("run", help="replay a job or a saved procedure on new scans")
    run.add_argument("procedure", type=Path, metavar="JOB-OR-PROCEDURE")
    run.add_argument("scans", type=Path, nargs="+", metavar="SCAN")
    run.add_argument("--out", type=Path, required=True, metavar="DIR")
    run.add_argument("--scan-unit", type=unit, metavar="UNIT")
    _add_instrument(run)
    _add_output(run)


def _add_fit(commands: argparse._SubParsersAction[_Parser]) -> None:
    fit = commands.add_parser("fit", help="a feature from a list of points")
    fit.add_argument("kind", choices=FEATURES, metavar="|".join(FEATURES))
    fit.add_argument("file", type=Path, metavar="FILE.csv", help="rows X,Y[,Z] in mm")
    fit.add_argument(
        "--method",
        default="gauss",
        choices=("gauss", "zone", "inscribed", "circumscribed"),
        help="zone: not of a circle3d or torus; inscribed, circumscribed: circle2d, sphere, cylinder",
    )
    fit.add_argument("--json", action="store_true", help="print JSON")


def _add_inspect(commands: argparse._SubParsersAction[_Parser]) -> None:
    inspect = commands.add_parser("inspect", help="hold a scan against a nominal")
    _add_scans(inspect)
    inspect.add_argument("--out", type=Path, required=True, metavar="DIR", help="folder for result, report and tables")
    inspect.add_argument(
        "--least-seen", type=share, default=0.9, metavar="SHARE", help="of the area, before it is decided"
    )
    _add_asked(inspect)
    _add_besides(inspect)
    _add_output(inspect)


def _add_asked(inspect: argparse.ArgumentParser) -> None:
    """Characteristics, and what they are asked by."""
    inspect.add_argument(
        "--drawing",
        type=Path,
        metavar="FILE.{csv,xlsx}|model",
        help="its characteristics, in place of the profile of the whole part; model: those that a STEP AP242 file states",
    )
    inspect.add_argument(
        "--characteristic", action="append", metavar="LINE",
        help="typed, such as 'position d0.2 M A|B of 31;32' or 'diameter 72 H7 of 51'; may be given several times",
    )  # fmt: skip
    inspect.add_argument(
        "--datum",
        action="append",
        metavar="A=14",
        help="of what is typed; a letter and its faces, and targets on them: 'A=14 at 10 20 0 d8 at ...'",
    )
    inspect.add_argument("--rules", default="iso", choices=("iso", "asme"), help="by which the drawing is read")
    inspect.add_argument(
        "--touches", type=Path, metavar="FILE.json", help="what a probe touched; it counts in place of the scan there"
    )
    inspect.add_argument(
        "--simulate", action="append", metavar="ID|all",
        help="check the budget of a line by drawing a hundred scans as this one could have been; several times",
    )  # fmt: skip


def _add_besides(inspect: argparse.ArgumentParser) -> None:
    """What is told or written besides verdicts."""
    inspect.add_argument(
        "--feature", action="append", metavar="FEATURE",
        help="'51', 'cylinder 14+15 along F1', 'plane at X,Y,Z': of faces, or grown round a place; 'meet F1 F2', 'between F1 F2': of others; several times",
    )  # fmt: skip
    inspect.add_argument(
        "--surface", type=Path, metavar="FILE.{ply,stl,obj,3mf}",
        help="hand out the surface in part coordinates; it is read back and compared",
    )  # fmt: skip
    inspect.add_argument(
        "--readings", type=Path, metavar="FILE.csv", help="name, X, Y, Z in part coordinates, mm, and a group"
    )
    inspect.add_argument(
        "--from-nominal", type=Path, metavar="FILE.ply", help="the nominal, coloured by how far the scan lies from it"
    )
    inspect.add_argument("--walls", choices=("ray", "ball"), help="measure how thick the walls are, all over the part")
    inspect.add_argument("--wall-least", type=positive, metavar="MM", help="a thinner wall does not conform")
    inspect.add_argument("--wall-most", type=positive, metavar="MM", help="a thicker one does not")


def _add_scans(parser: argparse.ArgumentParser) -> None:
    """Nominal, scans, how they are laid, and what is known of how they were measured."""
    parser.add_argument("nominal", type=Path, metavar="NOMINAL")
    parser.add_argument("scan", type=Path, metavar="SCAN")
    parser.add_argument(
        "more", type=Path, nargs="*", metavar="SCAN", help="more scans of the part, joined to the first"
    )
    parser.add_argument("--upper", type=length, default=0.2, metavar="MM")
    parser.add_argument("--lower", type=length, default=-0.2, metavar="MM")
    parser.add_argument(
        "--align",
        default="best-fit",
        metavar="best-fit|none|zone|stock|datums:FILE.json|points:FILE.csv|entities:FILE.json|targets:MEASURED.csv,KNOWN.csv",
    )
    parser.add_argument("--trim", default="auto", choices=("auto", "none"))
    parser.add_argument("--scan-unit", type=unit, metavar="mm|cm|m|in")
    parser.add_argument("--nominal-unit", type=unit, metavar="mm|cm|m|in")
    _add_instrument(parser)
    parser.add_argument("--temperature", type=temperature, metavar="DEGREES", help="of the part while it was scanned")
    parser.add_argument("--material", metavar="NAME", help="of the part: its expansion, unless --expansion is given")
    parser.add_argument("--expansion", type=positive, metavar="1e-6/K", help="of its material")
    parser.add_argument("--rule", default="guarded", choices=("simple", "guarded"))


def _add_section(commands: argparse._SubParsersAction[_Parser]) -> None:
    section = commands.add_parser("section", help="cut nominal and scan with planes")
    _add_scans(section)
    section.add_argument("--out", type=Path, required=True, metavar="FILE.{dxf,svg,csv}")
    section.add_argument(
        "--plane", action="append", required=True, metavar="z=12.5|face:14+2|X,Y,Z,NX,NY,NZ",
        help="in part coordinates; the plane of a face with an offset; a point and a normal; may be given several times",
    )  # fmt: skip
    several = section.add_mutually_exclusive_group()
    several.add_argument("--series", type=series, metavar="COUNT,MM", help="so many planes, so far apart")
    several.add_argument(
        "--radial",
        type=count,
        metavar="COUNT",
        help="so many planes through the axis that --plane gives: a round face, or a point and a direction",
    )
    section.add_argument(
        "--along", choices=("surface", "right", "up"), default="surface", help="which way deviations are taken"
    )
    section.add_argument(
        "--between", action="append", metavar="2,5", help="the dimension between two lines or arcs, by their numbers"
    )
    section.add_argument(
        "--enlarge", type=count, metavar="TIMES", help="deviations in the picture; by itself when not given"
    )
    section.add_argument("--json", action="store_true", help="print the result document and nothing else")


def _add_instrument(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--instrument", metavar="NAME|FILE.json", help="what it was scanned with: handheld, tracked, ... or a document"
    )
    parser.add_argument(
        "--method", "--chain", dest="chain", metavar="NAME", help="of that instrument; its first one when not given"
    )


def _add_assemble(commands: argparse._SubParsersAction[_Parser]) -> None:
    assemble = commands.add_parser("assemble", help="join several scans to one surface")
    assemble.add_argument("scans", type=Path, nargs="+", metavar="SCAN")
    assemble.add_argument("--out", type=Path, required=True, metavar="FILE.{ply,stl,obj,3mf}")
    assemble.add_argument(
        "--targets", type=Path, metavar="FILE.csv", help="rows scan,X,Y,Z: targets as each scan saw them"
    )
    assemble.add_argument("--pairs", type=Path, metavar="FILE.json", help="points picked on pairs of scans")
    assemble.add_argument(
        "--by-shape",
        action=argparse.BooleanOptionalAction,
        default=True,
        help="find the place of scans that nothing else ties",
    )
    assemble.add_argument("--spacing", type=positive, metavar="MM", help="of the surface")
    assemble.add_argument("--watertight", action="store_true", help="close open borders with invented faces")
    assemble.add_argument(
        "--trim", default="auto", choices=("auto", "none", "table"), help="table: each scan stands on one, cut it off"
    )
    assemble.add_argument("--scan-unit", type=unit, metavar="mm|cm|m|in")
    assemble.add_argument("--json", action="store_true", help="print the result document and nothing else")
    assemble.add_argument("--strict", action="store_true", help="exit status 1 when a scan is not tied")


FEATURES = ("line2d", "circle2d", "line3d", "plane", "circle3d", "sphere", "cylinder", "cone", "torus")
ENTRIES = ("instrument", "scale bar", "ball bar", "ball", "board", "probe tip", "equipment")


def _add_separate(commands: argparse._SubParsersAction[_Parser]) -> None:
    separate = commands.add_parser("separate", help="the parts in one scan, each into a file of its own")
    separate.add_argument("scan", type=Path, metavar="SCAN")
    separate.add_argument("--out", type=Path, required=True, metavar="DIR")
    separate.add_argument("--parts", type=count, metavar="N", help="how many there are; found when not given")
    separate.add_argument("--trim", default="auto", choices=("auto", "none"))
    separate.add_argument("--scan-unit", type=unit, metavar="mm|cm|m|in")
    separate.add_argument("--json", action="store_true", help="print the result document and nothing else")


def _add_gap(commands: argparse._SubParsersAction[_Parser]) -> None:
    gap = commands.add_parser(
        "gap", help="the gap between two bodies in one frame, and where one reaches into the other"
    )
    gap.add_argument("body", type=Path, metavar="BODY", help="a mesh or a CAD model; its places are told")
    gap.add_argument("other", type=Path, metavar="BODY")
    gap.add_argument("--limit", type=positive, default=3.0, metavar="MM", help="what lies farther apart says nothing")
    gap.add_argument("--unit", type=unit, metavar="mm|cm|m|in", help="of files that do not name one")
    gap.add_argument("--out", type=Path, metavar="FILE.ply", help="the first body with the gap at each place")
    gap.add_argument("--json", action="store_true", help="print the result document and nothing else")
    gap.add_argument("--strict", action="store_true", help="exit status 1 when one reaches into the other")


def _add_finish(commands: argparse._SubParsersAction[_Parser]) -> None:
    finish = commands.add_parser(
        "finish", help="work on one surface: repair, fill, smooth, thin; each says what it did"
    )
    finish.add_argument("scan", type=Path, metavar="SCAN")
    finish.add_argument("--out", type=Path, metavar="FILE.{ply,stl,obj,3mf}", help="only looked at when not given")
    finish.add_argument(
        "--targets-off",
        metavar="FILE.csv|by-shape",
        help="rows X,Y,Z: the surface of targets there goes; or of those found by their shape",
    )
    finish.add_argument("--find-targets", action="store_true", help="tell which thin discs stand out of the surface")
    finish.add_argument("--diameter", type=positive, default=8.0, metavar="MM", help="of a target with its surround")
    finish.add_argument("--repair", action="store_true", help="mend what keeps it from being one sheet")
    finish.add_argument("--fill", choices=("flat", "curvature"), help="close holes with faces marked as invented")
    finish.add_argument(
        "--kinds", default="target", metavar="target,hole,edge", help="which holes are filled (as a rule: target)"
    )
    finish.add_argument("--fill-up-to", type=positive, metavar="MM", help="perimeter up to which holes are filled")
    finish.add_argument("--smooth", type=positive, metavar="MM", help="no place moves farther than this")
    finish.add_argument("--thin", type=positive, metavar="MM", help="as few triangles as this displacement allows")
    finish.add_argument("--triangles", type=count, metavar="N", help="thin to so many, within --thin")
    finish.add_argument("--scan-unit", type=unit, metavar="mm|cm|m|in")
    finish.add_argument("--json", action="store_true", help="print the result document and nothing else")


def _add_register(commands: argparse._SubParsersAction[_Parser]) -> None:
    register = commands.add_parser(
        "register", help="what the shop has: instruments, artefacts, equipment, certificates"
    )
    register.add_argument("action", choices=("list", "add", "certify", "remove"), metavar="list|add|certify|remove")
    register.add_argument("--kind", choices=ENTRIES, default="instrument", metavar="|".join(ENTRIES))
    register.add_argument("--model", metavar="NAME|FILE.json", help="one that ships, or the shop's own document of it")
    for name in ("name", "serial", "number", "operator"):
        register.add_argument(f"--{name}", metavar="TEXT")
    for name in ("length", "diameter", "uncertainty"):
        register.add_argument(f"--{name}", type=length, metavar="MM")
    register.add_argument("--until", metavar="2027-06-30", help="the last day on which the certificate is valid")
    register.add_argument("--document", metavar="FILE", help="a scan or PDF of the certificate, kept in the logbook")
    register.add_argument("--logbook", metavar="ADDRESS", help="of another logbook than the user's own")
    register.add_argument("--json", action="store_true", help="print JSON")


def _add_output(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--json", action="store_true", help="print the result document and nothing else")
    parser.add_argument("--strict", action="store_true", help="exit status 1 when a verdict is not 'conforms'")
