"""Arguments of the command line."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import NoReturn

from juxtum import __version__
from juxtum.errors import InputError
from juxtum.units import Unit, parse_length


class _Parser(argparse.ArgumentParser):
    """Complains in one line, as all other errors do."""

    def error(self, message: str) -> NoReturn:
        raise InputError(message, self.prog, f"See '{self.prog} --help'")


def _length(text: str) -> float:
    try:
        return parse_length(text)
    except InputError as problem:
        raise argparse.ArgumentTypeError(problem.what) from problem


def _unit(text: str) -> Unit:
    try:
        return Unit(text)
    except ValueError as problem:
        raise argparse.ArgumentTypeError(f"'{text}' is not a unit; use mm, cm, m or in") from problem


def make_parser() -> argparse.ArgumentParser:
    """The parser of `juxtum`."""
    parser = _Parser(prog="juxtum", description="Puts a manufactured part beside its drawing.", allow_abbrev=False)
    parser.add_argument("--version", action="version", version=f"juxtum {__version__}")
    commands = parser.add_subparsers(dest="command", metavar="COMMAND")
    _add_inspect(commands)
    run = commands.add_parser("run", help="replay a job or a saved procedure on new scans")
    run.add_argument("procedure", type=Path, metavar="JOB-OR-PROCEDURE")
    run.add_argument("scans", type=Path, nargs="+", metavar="SCAN")
    run.add_argument("--out", type=Path, required=True, metavar="DIR")
    run.add_argument("--scan-unit", type=_unit, metavar="UNIT")
    _add_output(run)
    info = commands.add_parser("info", help="what a file holds")
    info.add_argument("file", type=Path, metavar="FILE")
    info.add_argument("--json", action="store_true", help="print JSON")
    opened = commands.add_parser("open", help="open the desk")
    opened.add_argument("files", type=Path, nargs="*", metavar="FILE")
    demo = commands.add_parser("demo", help="open the desk on the demo job")
    demo.add_argument("--out", type=Path, default=Path("demo-out"), metavar="DIR", help="for a machine without a display")
    commands.add_parser("prepare", help="make the demo scan and warm the caches")
    return parser


def _add_inspect(commands: argparse._SubParsersAction[_Parser]) -> None:
    inspect = commands.add_parser("inspect", help="hold a scan against a nominal")
    inspect.add_argument("nominal", type=Path, metavar="NOMINAL")
    inspect.add_argument("scan", type=Path, metavar="SCAN")
    inspect.add_argument("--out", type=Path, required=True, metavar="DIR", help="folder for result, report and tables")
    inspect.add_argument("--upper", type=_length, default=0.2, metavar="MM")
    inspect.add_argument("--lower", type=_length, default=-0.2, metavar="MM")
    inspect.add_argument("--align", default="best-fit", metavar="best-fit|none|datums:FILE.json")
    inspect.add_argument("--trim", default="auto", choices=("auto", "none"))
    inspect.add_argument("--scan-unit", type=_unit, metavar="mm|cm|m|in")
    inspect.add_argument("--nominal-unit", type=_unit, metavar="mm|cm|m|in")
    inspect.add_argument("--instrument", type=Path, metavar="FILE.json")
    inspect.add_argument("--rule", default="guarded", choices=("simple", "guarded"))
    _add_output(inspect)


def _add_output(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--json", action="store_true", help="print the result document and nothing else")
    parser.add_argument("--strict", action="store_true", help="exit status 1 when a verdict is not 'conforms'")
