"""Arguments of what is planned and captured."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from juxtum.cli.values import band, clock, count, faces, length, port, positive, seed, share, unit

if TYPE_CHECKING:
    Commands = argparse._SubParsersAction[Any]

PLANS = ("suitability", "targets", "photos", "stations", "blind", "turntable", "tray", "effort")


def add_plan(commands: Commands) -> None:
    """`juxtum plan`."""
    plan = commands.add_parser("plan", help="what can be computed before anyone touches the part")
    plan.add_argument("what", choices=PLANS, metavar="|".join(PLANS))
    plan.add_argument(
        "nominal", metavar="NOMINAL", help="a nominal, a .juxtum job, or demo:BC-220, demo:HB-36, demo:VC-8"
    )
    plan.add_argument("--instrument", action="append", metavar="NAME|FILE.json", help="may be given several times")
    plan.add_argument(
        "--register",
        nargs="?",
        const="",
        metavar="ADDRESS",
        help="compare only the instruments that the register holds, and begin a first plan on the equipment in it",
    )
    plan.add_argument("--mode", metavar="NAME")
    plan.add_argument("--method", "--chain", dest="chain", metavar="NAME")
    plan.add_argument(
        "--equipment",
        action="append",
        metavar="ID|FILE.json",
        help="plate, turntable or block with targets of its own under or beside the part; none for none; may be given several times",
    )
    plan.add_argument(
        "--joined", choices=("targets", "shape"), default="targets", help="what ties the positions of the part"
    )
    plan.add_argument("--stance", choices=("table", "stands"))
    plan.add_argument(
        "--material",
        metavar="NAME",
        help="of the part, such as 'carbon steel'; a name that is not in the table lists all",
    )
    plan.add_argument("--upper", type=length, default=0.2, metavar="MM", help="for a nominal without characteristics")
    plan.add_argument("--lower", type=length, default=-0.2, metavar="MM")
    plan.add_argument("--nominal-unit", type=unit, metavar="mm|cm|m|in")
    _add_targets(plan)
    _add_topics(plan)
    plan.add_argument("--out", type=Path, metavar="DIR")
    plan.add_argument("--json", action="store_true", help="print the plan's document and nothing else")
    plan.add_argument("--strict", action="store_true", help="exit status 1 when the plan does not meet what is asked")


def _add_targets(plan: argparse.ArgumentParser) -> None:
    """Where targets may go, and how much they shall show."""
    plan.add_argument("--diameter", type=positive, metavar="MM", help="of the targets")
    plan.add_argument("--target-spacing", type=band, metavar="NEAR-FAR", help="for example 30-100, mm")
    plan.add_argument(
        "--allow-faces", type=faces, metavar="1,2", help="measured or datum faces that may carry targets all the same"
    )
    plan.add_argument(
        "--datums", type=faces, metavar="14,51,16", help="datum faces: lengths start there, targets keep clear"
    )
    plan.add_argument(
        "--goal",
        type=share,
        metavar="SHARE",
        help="share of the area that shall be seen from two directions while tracking, 0 to 1",
    )
    plan.add_argument(
        "--targets",
        type=Path,
        metavar="FILE.csv",
        help="score these targets, name,X,Y,Z in part coordinates, instead of planning some",
    )
    plan.add_argument("--keep", action="store_true", help="keep the job's targets and only score them")


def _add_topics(plan: argparse.ArgumentParser) -> None:
    """What single topics ask."""
    plan.add_argument("--bars", type=count, metavar="N")
    plan.add_argument("--fixed-camera", action="store_true", help="the camera is known and not solved with the rest")
    plan.add_argument(
        "--finish", action="append", metavar="FACE=glossy", help="dark, glossy, mirror-like or clear faces"
    )
    plan.add_argument("--spacing", type=positive, metavar="MM")
    plan.add_argument("--coat", choices=("none", "vanishing", "slow vanishing", "powder"))
    plan.add_argument("--start", type=clock, metavar="HH:MM")
    plan.add_argument("--parts", type=count, metavar="N", help="in a tray")


DEVICES = ("handheld", "tracked", "head", "camera", "probe", "cabinet")
SERVED = (*DEVICES, "turntable", "projector")


def add_capture(commands: Commands) -> None:
    """`juxtum capture`."""
    capture = commands.add_parser("capture", help="let a stand-in measure a part along its plan")
    capture.add_argument(
        "nominal", metavar="NOMINAL", help="a nominal, a .juxtum job, or demo:BC-220, demo:HB-36, demo:VC-8"
    )
    capture.add_argument(
        "--plan", type=Path, metavar="FILE", help="a plan (plan.json of 'juxtum plan targets --out') or a .juxtum job"
    )
    capture.add_argument("--device", choices=DEVICES, default="handheld", metavar="|".join(DEVICES))
    capture.add_argument("--instrument", metavar="NAME|FILE.json", help="instead of the plan's")
    capture.add_argument("--seed", type=seed, default=0, metavar="N")
    capture.add_argument("--spacing", type=positive, metavar="MM")
    capture.add_argument(
        "--port", type=port, metavar="P", help="of a device that is served already, instead of a stand-in of its own"
    )
    capture.add_argument("--cut", type=positive, metavar="MM", help="keep nothing lower than this above the table")
    capture.add_argument("--clean", action="store_true", help="leave out points seen too flat or hardly tracked")
    capture.add_argument("--nominal-unit", type=unit, metavar="mm|cm|m|in")
    capture.add_argument(
        "--upper", type=length, default=0.2, metavar="MM", help="for a nominal without characteristics"
    )
    capture.add_argument("--lower", type=length, default=-0.2, metavar="MM")
    capture.add_argument("--out", type=Path, required=True, metavar="DIR")
    capture.add_argument("--json", action="store_true", help="print the capture's document and nothing else")
    capture.add_argument(
        "--strict", action="store_true", help="exit status 1 when less is captured than the plan expected"
    )


def add_device(commands: Commands) -> None:
    """`juxtum device`."""
    device = commands.add_parser("device", help="run a stand-in of a device as a process of its own")
    device.add_argument("what", choices=("serve",), metavar="serve")
    device.add_argument("kind", choices=SERVED, metavar="|".join(SERVED))
    device.add_argument(
        "--part", default="demo:BC-220", metavar="FILE", help="a nominal, a .juxtum job, or a demo part"
    )
    device.add_argument("--plan", type=Path, metavar="FILE", help="tells where targets are stuck")
    device.add_argument("--nominal-unit", type=unit, metavar="mm|cm|m|in")
    device.add_argument("--seed", type=seed, default=0, metavar="N")
    device.add_argument("--port", type=port, default=0, metavar="P", help="any that is free when not given")
    device.add_argument("--once", action="store_true", help="end when the client has gone")
