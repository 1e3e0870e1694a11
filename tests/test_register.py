"""The register: what a shop has, its certificates, and what planning makes of it."""

from __future__ import annotations

import json
import math
from datetime import date
from pathlib import Path

import pytest

from juxtum.cli.main import main
from juxtum.demo.job import demo_job
from juxtum.demo.register import fill, is_demo
from juxtum.errors import InputError, JobError, JuxtumError
from juxtum.instruments.equipment import equipment_named
from juxtum.instruments.models import InstrumentModel, Kind, shipped, shipped_instruments
from juxtum.instruments.owned import Owned
from juxtum.job import FileStore, Job
from juxtum.logbook import Logbook
from juxtum.logbook.register import Item, ItemKind, Register
from juxtum.nominal import Nominal
from juxtum.plan.document import Plan
from juxtum.plan.equipping import planned_first
from juxtum.plan.foretold import Foretold, with_foretold
from juxtum.plan.grounds import Grounds
from juxtum.plan.planner import Planner
from juxtum.plan.task import whole_part

BAR = Item(ItemKind.SCALE_BAR, "bar 1", "S-9", length=1000.02, uncertainty=0.01)


@pytest.fixture
def own(tmp_path: Path) -> Register:
    return Register(Logbook(f"sqlite:///{tmp_path / 'book.sqlite'}"))


def test_what_is_entered_is_kept_with_every_certificate(own: Register, tmp_path: Path) -> None:
    assert own.is_empty and own.listed() == () and own.owned() == Owned()
    bar = own.add(BAR)
    paper = tmp_path / "certificate.pdf"
    paper.write_bytes(b"%PDF-1.4 made up")
    own.certify(bar, "C-1", date(2026, 3, 1), "Ilse Maartens")
    own.certify(bar, "C-2", date(2027, 3, 1), "Ilse Maartens", paper)
    paper.unlink()
    again = Register(Logbook(own._book.url))
    assert [(c.number, c.file_name) for c in again.history(bar)] == [("C-2", "certificate.pdf"), ("C-1", "")]
    assert again.document(again.history(bar)[0]) == b"%PDF-1.4 made up"
    standings = [again.listed(day)[0].standing for day in (date(2027, 1, 1), date(2027, 2, 27), date(2027, 3, 2))]
    assert standings == ["C-2, until 2027-03-01", "C-2, until 2027-03-01, in 2 days", "C-2 ran out on 2027-03-01"]
    assert again.listed(date(2027, 1, 1))[0].figures == "1000.02 mm, U 0.01 mm"
    with pytest.raises(JobError, match="certificate C-1 has no document"):
        again.document(again.history(bar)[1])
    again.remove(bar)
    assert again.is_empty and not again.history(bar)
    with pytest.raises(JobError, match="bar 1 is no longer in the register"):
        again.certify(bar, "C-3", date(2028, 1, 1))


def test_an_instrument_taken_out_keeps_what_was_calibrated(own: Register) -> None:
    scanner = own.add(Item(ItemKind.INSTRUMENT, model="wh-3", serial="7"))
    own.add(Item(ItemKind.EQUIPMENT, model="rp-45"))
    assert own.owned() == Owned(("wh-3",), ("rp-45",))
    assert [r.title for r in own.listed()] == ["Handheld scanner WH-3, 7", "Reference plate RP-45"]
    with pytest.raises(InputError, match="is in the register already"):
        own.add(Item(ItemKind.INSTRUMENT, model="wh-3", serial="7"))
    own.remove(scanner)
    assert (
        own.owned().instruments == () and own.add(Item(ItemKind.INSTRUMENT, model="wh-3", serial="7")).id == scanner.id
    )


@pytest.mark.parametrize(
    ("item", "words"),
    [
        (Item(ItemKind.SCALE_BAR, "bar", length=1000), "the uncertainty of a scale bar must be more than 0 mm"),
        (Item(ItemKind.SCALE_BAR, "bar", length=math.nan, uncertainty=0.1), "the length of a scale bar must be more"),
        (Item(ItemKind.BALL, "ball", diameter=-25, uncertainty=0.1), "the diameter of a ball must be more than 0 mm"),
        (Item(ItemKind.BALL, diameter=25, uncertainty=0.1), "the ball has no name"),
        (Item(ItemKind.INSTRUMENT, serial="7"), "it is not said which instrument it is"),
        (Item(ItemKind.EQUIPMENT, model="rp-99"), "there is no equipment 'rp-99'"),
        (Item(ItemKind.INSTRUMENT, model="unheard of"), "no instrument called 'unheard of' ships with Juxtum"),
        (Item(ItemKind.INSTRUMENT, document="{}"), "this is not an instrument"),
        (Item(ItemKind.EQUIPMENT, document="no JSON"), "this is not equipment"),
        (Item(ItemKind.TIP, "t" * 121, diameter=3), "the name is longer than 120 characters"),
    ],
)
def test_what_cannot_be_entered(own: Register, item: Item, words: str) -> None:
    with pytest.raises(InputError, match=words):
        own.add(item)
    assert own.is_empty


@pytest.mark.parametrize(
    ("number", "content", "words"),
    [
        ("", b"x", "number is missing or too long"),
        ("C-1", b"", "the document is empty"),
        ("C-1", None, "the document cannot be read"),
        ("C-1", b"x" * 20_000_001, "more than 20 MB"),
    ],
)
def test_what_is_no_certificate(own: Register, tmp_path: Path, number: str, content: bytes | None, words: str) -> None:
    bar, paper = own.add(BAR), tmp_path / "paper.pdf"
    if content is not None:
        paper.write_bytes(content)
    with pytest.raises(JuxtumError, match=words):
        own.certify(bar, number, date(2027, 1, 1), document=paper)
    assert not own.history(bar) and own.listed()[0].standing == "no certificate"


def test_only_the_demo_s_logbook_holds_the_demo_s_shop(own: Register, tmp_path: Path) -> None:
    job = demo_job(FileStore(), with_scan=False)
    assert is_demo(job) and not is_demo(Job())
    fill(own._book)
    fill(own._book)
    standings = {r.row.name: r.is_valid for r in own.listed()}
    assert len(standings) == 10 and standings["bar A"] and not standings["reference ball RB-25"]


def planner(nominal: Nominal, owned: Owned) -> Planner:
    return Planner(nominal, whole_part(-0.2, 0.2), Plan(datums=(14,)), Grounds(), owned)


def test_a_first_plan_stands_on_what_the_shop_has(nominal: Nominal) -> None:
    """With a plate in the register nothing is stuck; another plan, or one without a register, is as before."""
    asked = planner(nominal, Owned(equipment=("rp-45",)))
    made = planned_first(asked)
    assert [e.id for e in made.equipment] == ["rp-45"] and len(made.targets) <= 8 and made.expected is not None
    assert not planned_first(planner(nominal, Owned())).equipment


def test_only_what_the_shop_has_is_compared() -> None:
    models = shipped_instruments()
    assert [m.id for m in Owned(("wh-3", "wb-1")).instruments_of(models)] == ["wh-3", "wb-1"]
    assert Owned().instruments_of(models) == models and Owned(("elsewhere",)).instruments_of(models) == models


def own_scanner(**figures: object) -> InstrumentModel:
    """A document as a shop writes it of a scanner that does not ship."""
    return shipped(Kind.HANDHELD).model_copy(update={"id": "shop-1", "name": "Our scanner", **figures})


def test_a_shop_s_own_instruments_and_plates_are_documents_in_its_register(own: Register, tmp_path: Path) -> None:
    plate = equipment_named("rp-45").model_copy(update={"id": "ours", "name": "Our plate"})
    first = own.add(
        Item(ItemKind.INSTRUMENT, serial="1", document=own_scanner(weight=1.0).model_dump_json(by_alias=True))
    )
    own.add(Item(ItemKind.INSTRUMENT, serial="2", document=own_scanner(weight=2.0).model_dump_json(by_alias=True)))
    own.add(Item(ItemKind.EQUIPMENT, document=plate.model_dump_json(by_alias=True)))
    assert [(r.title, r.figures) for r in own.listed()] == [
        ("Our scanner, 1", "own document"), ("Our scanner, 2", "own document"), ("Our plate", "own document"),
    ]  # fmt: skip
    owned = Register(Logbook(own._book.url)).owned()
    assert [m.weight for m in owned.documents] == [2.0] and owned.pieces == (plate,), "the later of two of one id"
    assert [m.name for m in owned.instruments_of(shipped_instruments())] == ["Our scanner"]
    everything = owned.without_a_list.instruments_of(shipped_instruments())
    assert everything[0].name == "Our scanner" and len(everything) == len(shipped_instruments()) + 1
    assert [e.name for e in owned.offered_equipment((equipment_named("rp-45"),))] == [
        "Our plate",
        "Reference plate RP-45",
    ]
    with own._book.session() as session:
        found = session.get(type(first), first.id)
        assert found is not None
        found.document = '{"schema": "juxtum-instrument-9"}'
    assert own.listed()[0].figures == "its document cannot be read here" and [
        m.weight for m in own.owned().documents
    ] == [2.0]


def test_the_command_line_plans_with_a_shop_s_own_scanner(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    at, document = f"sqlite:///{tmp_path / 'book.sqlite'}", tmp_path / "ours.json"
    document.write_text(own_scanner().model_dump_json(by_alias=True), "utf-8")
    assert main(["register", "add", "--model", str(document), "--serial", "7", "--logbook", at]) == 0
    assert "entered: Our scanner" in capsys.readouterr().out
    document.unlink()
    assert main(["plan", "suitability", "demo:BC-220", "--json", "--register", at]) == 0
    assert {row["instrument"] for row in json.loads(capsys.readouterr().out)["rows"]} == {"Our scanner"}
    assert main(["plan", "effort", "demo:BC-220", "--json", "--register", at, "--instrument", "shop-1"]) == 0
    capsys.readouterr()
    assert main(["plan", "effort", "demo:BC-220", "--instrument", "shop-1"]) == 2
    assert "no instrument called 'shop-1' ships with Juxtum" in capsys.readouterr().err
    for content, words in (
        (b"{}", "this is not an instrument"),
        (b"\xff\xfe\x00", "cannot be read as text"),
        (b"1" * 1_000_001, "too large"),
    ):
        document.write_bytes(content)
        assert (
            main(["register", "add", "--model", str(document), "--logbook", at]) == 2
            and words in capsys.readouterr().err
        )


def test_the_command_line_keeps_a_register(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    at = ["--logbook", f"sqlite:///{tmp_path / 'book.sqlite'}"]
    assert main(["register", "list", *at]) == 0 and "nothing is entered" in capsys.readouterr().out
    assert main(["register", "add", "--model", "wh-3", "--serial", "7", *at]) == 0
    bar = ["--kind", "scale bar", "--name", "bar 1", "--length", "1000", "--uncertainty", "0,01"]
    assert main(["register", "add", *bar, *at]) == 0
    assert main(["register", "certify", "--name", "bar 1", "--number", "C-1", "--until", "2099-03-01", *at]) == 0
    capsys.readouterr()
    assert main(["register", "list", "--json", *at]) == 0
    entries = json.loads(capsys.readouterr().out)["entries"]
    assert [(e["kind"], e["serial"], e["is_valid"]) for e in entries] == [
        ("instrument", "7", False),
        ("scale bar", "", True),
    ]
    assert entries[1]["certificates"][0]["number"] == "C-1"
    assert main(["plan", "suitability", "demo:BC-220", "--json", "--register", at[1]]) == 0
    rows = json.loads(capsys.readouterr().out)["rows"]
    assert {row["instrument"] for row in rows} == {"Handheld scanner WH-3"}
    for wrong, words in (
        (["certify", "--name", "bar 2", "--number", "C", "--until", "2099-01-01"], "the register holds no 'bar 2'"),
        (["certify", "--name", "bar 1", "--number", "C", "--until", "June"], "'June' is no day"),
        (["certify", "--name", "bar 1"], "number and last day of the certificate are missing"),
    ):
        assert main(["register", *wrong, *at]) == 2 and words in capsys.readouterr().err


def test_a_method_is_judged_by_what_was_foretold_for_this_part() -> None:
    """A network of U = 0.08 + 0.02 L counts as a rectangular limit of the same standard uncertainty, beside the scanner's own error."""
    scanner = next(m for m in shipped_instruments() if m.id == "wh-3")
    made = with_foretold(scanner, {"bars": Foretold("bars", 0.08, 0.02, "planned")})
    barred, plain = made.chain("with photo set and bars"), made.chain("scanner alone")
    assert plain == scanner.chain("scanner alone") and with_foretold(scanner, {}) is scanner
    assert barred.a / math.sqrt(3) == pytest.approx(math.hypot(0.0194 / math.sqrt(3), 0.08 / 2))
    assert barred.b / math.sqrt(3) == pytest.approx(0.02 / 2)
