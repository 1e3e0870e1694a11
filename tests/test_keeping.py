"""Nothing that was written is lost, and nothing is written where it should not be."""

from __future__ import annotations

import os
import stat
import time
import zipfile
from pathlib import Path

import pytest
from pydantic import ValidationError

from helpers import write_bracket
from juxtum.errors import JobError
from juxtum.exchange.inputfile import InputFile
from juxtum.exchange.writing import as_file_name, write_atomically
from juxtum.job import Brief, FileStore, Job, inputs_of, load_job, save_job

pytestmark = pytest.mark.quick


def put(path: Path, text: str) -> None:
    write_atomically(path, lambda target: target.write_text(text))


def test_a_link_stays_a_link(tmp_path: Path) -> None:
    real, link = tmp_path / "real.txt", tmp_path / "link.txt"
    real.write_text("old")
    link.symlink_to(real)
    put(link, "new")
    assert link.is_symlink() and real.read_text() == "new"


def test_permissions_stay(tmp_path: Path) -> None:
    path = tmp_path / "private.txt"
    path.write_text("old")
    path.chmod(0o600)
    put(path, "new")
    assert stat.S_IMODE(path.stat().st_mode) == 0o600 and path.read_text() == "new"


def test_what_was_planted_in_the_way_is_not_followed(tmp_path: Path) -> None:
    victim = tmp_path / "victim"
    victim.write_text("precious")
    for name in (f".a.txt.{os.getpid()}.part", ".a.txt.part"):
        (tmp_path / name).symlink_to(victim)
    put(tmp_path / "a.txt", "new")
    assert victim.read_text() == "precious" and (tmp_path / "a.txt").read_text() == "new"


def test_what_a_killed_program_left_is_taken_away(tmp_path: Path) -> None:
    old, fresh = tmp_path / ".a.txt.4711-ab.part", tmp_path / ".a.txt.4712-ab.part"
    for path in (old, fresh):
        path.write_text("half")
    os.utime(old, (time.time() - 200_000,) * 2)
    put(tmp_path / "a.txt", "new")
    assert not old.exists() and fresh.exists(), "another program may be writing the fresh one"


@pytest.mark.parametrize(
    ("name", "words"), [("x" * 300, "the name is too long"), ("no/such/folder.txt", "could not be written")]
)
def test_what_cannot_be_written_is_a_sentence(tmp_path: Path, name: str, words: str) -> None:
    with pytest.raises(JobError, match=words):
        put(tmp_path / name, "x")


def test_a_changed_input_does_not_end_in_a_broken_job(tmp_path: Path) -> None:
    files = FileStore(tmp_path / "kept")
    job = Job(inputs=inputs_of(files.adopt(write_bracket(tmp_path / "n.stl"))))
    assert job.nominal is not None
    good = tmp_path / "a.juxtum"
    save_job(job, good, files)
    before = good.read_bytes()
    kept = files.locate(job.nominal)
    kept.write_bytes(kept.read_bytes()[:500])
    with pytest.raises(JobError, match="was changed or cut off"):
        save_job(job.model_copy(update={"brief": Brief(part="later")}), good, files)
    assert good.read_bytes() == before
    other = FileStore(tmp_path / "kept")
    assert load_job(good, other, tmp_path / "kept") == job
    assert zipfile.ZipFile(good).testzip() is None and other.checked(job.nominal).stat().st_size > 500, "unpacked anew"
    other.adopt(tmp_path / "n.stl")


@pytest.mark.parametrize("name", [".", ".."])
def test_an_input_cannot_be_a_folder(name: str) -> None:
    with pytest.raises(ValidationError):
        InputFile(name=name, sha256="0" * 64)


@pytest.mark.parametrize("text", ["../../x", "/etc/passwd", "..", "", "a/b", "\0", "BC-220 bearing"])
def test_a_part_never_names_a_path(text: str) -> None:
    name = as_file_name(text)
    assert name and "/" not in name and not name.startswith(".") and "\0" not in name
