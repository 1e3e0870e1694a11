"""What the made-up shop of the demo has: entered into the demo's own logbook and into no other."""

from __future__ import annotations

from datetime import date, datetime, timedelta

from juxtum.demo.job import BRIEF
from juxtum.folders import data_folder
from juxtum.instruments.models import shipped_instruments
from juxtum.job import Job
from juxtum.logbook import Logbook
from juxtum.logbook.captures import CaptureEntry, write_capture
from juxtum.logbook.register import Item, ItemKind, Register

ITEMS = (
    Item(ItemKind.INSTRUMENT, serial="TF-HS-03", model="wh-3"),
    Item(ItemKind.INSTRUMENT, serial="TF-TS-01", model="wt-2"),
    Item(ItemKind.INSTRUMENT, serial="TF-PS-02", model="wp-24"),
    Item(ItemKind.INSTRUMENT, serial="TF-TP-05", model="wb-1"),
    Item(ItemKind.BALL_BAR, "ball bar BB-300", "TF-A-11", length=300.012, diameter=25.4003, uncertainty=0.004),
    Item(ItemKind.SCALE_BAR, "bar A", "TF-A-12", length=1400.062, uncertainty=0.012),
    Item(ItemKind.SCALE_BAR, "bar B", "TF-A-13", length=1399.938, uncertainty=0.012),
    Item(ItemKind.BALL, "reference ball RB-25", "TF-A-14", diameter=25.0008, uncertainty=0.002),
    Item(ItemKind.BOARD, "dot board DB-7", "TF-A-15", length=240.0, diameter=6.0, uncertainty=0.006),
    Item(ItemKind.TIP, "tip T-3", "TF-T-01", diameter=3.0),
)
"""Invented; instrument WH-3 and the ball bar come without a certificate, so that the demo shows how one is entered."""
CERTIFIED = {"bar A": ("TF-C-1175", 221), "bar B": ("TF-C-1176", 221), "dot board DB-7": ("TF-C-1190", 24),
             "reference ball RB-25": ("TF-C-1054", -12)}  # fmt: skip
"""Certificate and days until it runs out, from when the demo's logbook is made."""
CAPTURES = (("HB-36 sluice hinge beam", 411.0, 468.0), ("BC-220 bearing carrier", 72.0, 97.0),
            ("BC-220 bearing carrier", 72.0, 88.0), ("BC-220 bearing carrier", 72.0, 81.0), ("BC-220 bearing carrier", 72.0, 92.0))  # fmt: skip
"""Part, seconds estimated and taken of captures with WH-3 that the demo's people are said to have made."""


def is_demo(job: Job) -> bool:
    """Whether a job plays in the demo's world."""
    return job.brief.customer == BRIEF.customer


def demo_address() -> str:
    """Of the demo's own logbook."""
    return f"sqlite:///{data_folder() / 'demo-logbook.sqlite'}"


def fill(book: Logbook) -> None:
    """Enter what the demo's shop has, where nothing is entered yet."""
    register = Register(book)
    if not register.is_empty:
        return
    for item in ITEMS:
        row = register.add(item)
        if row.name in CERTIFIED:
            number, days = CERTIFIED[row.name]
            register.certify(row, number, date.today() + timedelta(days=days), BRIEF.operator)
    scanner = next(model for model in shipped_instruments() if model.id == "wh-3")
    for k, (part, planned, seconds) in enumerate(CAPTURES):
        began = datetime.now() - timedelta(days=3 * (len(CAPTURES) - k))
        made = CaptureEntry(scanner.modes[0].name, f"demo {k}", part, began.isoformat(), planned, seconds, 0.98, 0.975)
        write_capture(book, scanner, made, began)
