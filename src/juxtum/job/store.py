"""The `.juxtum` file: a zip of the job's document and its input files. Written whole or not at all."""

from __future__ import annotations

import json
import os
import struct
import zipfile
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from juxtum.errors import InputError, JobError
from juxtum.exchange.documents import Form, read_document, validation_sentence
from juxtum.exchange.inputfile import InputFile
from juxtum.exchange.limits import JOB_SUFFIX, MAX_FILE_BYTES, check_file, content_hash
from juxtum.exchange.writing import write_atomically
from juxtum.instruments.circumstances import Circumstances, for_other_parts
from juxtum.job.document import Brief, Job
from juxtum.job.files import FileStore
from juxtum.job.inputs import load_nominal
from juxtum.job.procedure import Procedure
from juxtum.job.revision import faces_named, revised
from juxtum.job.roles import inputs_of
from juxtum.nominal.fingerprints import Fingerprint
from juxtum.progress import silent
from juxtum.units import Unit

SUFFIX = JOB_SUFFIX
VERSION = 6
MAX_DOCUMENT_BYTES = 64 * 1024**2


def save_job(job: Job, path: Path, files: FileStore) -> None:
    """Save a job with its inputs.

    Raises
    ------
    JobError
        When an input is lost or the file cannot be written; the file that was there stays as it was.
    """

    def write(target: Path) -> None:
        with zipfile.ZipFile(target, "w", zipfile.ZIP_STORED) as package:
            package.writestr("job.json", job.model_dump_json(by_alias=True, indent=1), zipfile.ZIP_DEFLATED)
            for taken in _inputs(job):
                package.write(files.checked(taken), _member(taken))
        _read_back(target, job, path)

    write_atomically(path, write)


def _read_back(written: Path, job: Job, path: Path) -> None:
    """See that what was written opens as the same job, before it takes the place of the file that is there."""
    with zipfile.ZipFile(written) as package:
        _check_members(package, path)
        same = parse_job(package.read("job.json"), path) == job
        held = set(package.namelist()) >= {_member(taken) for taken in _inputs(job)}
    if not (same and held):
        raise JobError("the job could not be read back as it was written", str(path), "Save it somewhere else")


def load_job(path: Path, files: FileStore, folder: Path) -> Job:
    """Open a job; its inputs are unpacked into `folder`, by their hash.

    Raises
    ------
    InputError
        When the file is not a job, is damaged, comes from a newer version or holds anything it should not.
    """
    check_file(path)
    try:
        with zipfile.ZipFile(path) as package:
            _check_members(package, path)
            job = parse_job(package.read("job.json"), path)
            for taken in _inputs(job):
                files.register(taken, _unpack(package, taken, folder, path))
            return job
    except InputError:
        raise
    except (
        zipfile.BadZipFile,
        zlib.error,
        struct.error,
        EOFError,
        NotImplementedError,
        RuntimeError,
        LookupError,
        ValueError,
    ) as problem:
        raise InputError("this is not a job, or it is damaged", str(path), "Open another copy of it") from problem
    except OSError as problem:
        raise InputError("the job cannot be unpacked", str(path), "Check the free space") from problem


def _check_members(package: zipfile.ZipFile, path: Path) -> None:
    for info in package.infolist():
        name = info.filename
        if name.startswith(("/", "\\")) or "\\" in name or ".." in Path(name).parts:
            raise InputError("the job holds a path outside itself", str(path), "Do not use this file")
        if info.file_size > MAX_FILE_BYTES:
            raise InputError("the job holds a file that is too large", str(path), "Do not use this file")
    if sum(info.file_size for info in package.infolist()) > MAX_FILE_BYTES:
        raise InputError("the job holds more than a job may", str(path), "Do not use this file")
    if "job.json" not in package.namelist():
        raise InputError("this is not a job: its document is missing", str(path), "Open a .juxtum file")
    if package.getinfo("job.json").file_size > MAX_DOCUMENT_BYTES:
        raise InputError("the job's document is too large", str(path), "Do not use this file")


def parse_job(data: bytes, path: Path) -> Job:
    """A job from its JSON document, of this version or an older one.

    Raises
    ------
    InputError
        When it is damaged or newer than this program.
    """
    try:
        raw = json.loads(data)
    except (ValueError, RecursionError) as problem:
        raise InputError("the job's document is not JSON", str(path), "Open another copy of it") from problem
    if not isinstance(raw, dict) or raw.get("schema") != "juxtum-job":
        raise InputError("this is not the document of a job", str(path), "Open a .juxtum file")
    version = raw.get("version")
    if isinstance(version, int) and version > VERSION:
        what = f"the job was saved by a newer version (format {version}, this program reads up to {VERSION})"
        raise InputError(what, str(path), "Update Juxtum")
    try:
        return Job.model_validate_json(json.dumps(_migrated(raw)))
    except ValidationError as problem:
        raise InputError(
            f"the job is damaged: {validation_sentence(problem)}", str(path), "Open another copy of it"
        ) from problem
    except (TypeError, ValueError, RecursionError) as problem:
        raise InputError("the job is damaged", str(path), "Open another copy of it") from problem


def _migrated(raw: dict[str, Any]) -> dict[str, Any]:
    """A document of an older version, brought forward step by step.

    The first had no plan, the second no capture; in the third instrument and room stood in the brief, where nobody
    could tell what had been stated from what had been left as it was, so that they count as stated. The fourth had one
    nominal and one scan, and called an alignment a frame where it decides. The fifth did not ask who ticked or overrode.
    """
    if raw.get("version") == 1:
        raw = {**raw, "version": 2, "plan": None}
    if raw.get("version") == 2:
        raw = {**raw, "version": 3, "capture": None}
    if raw.get("version") == 3:
        brief = dict(raw.get("brief") or {})
        old = {"name": "Handheld laser scanner", "a": 0.020, "b": 0.040}
        stated: dict[str, Any] = {
            "instrument": {**old, **brief.pop("instrument", {})},
            "environment": {"temperature": 20.0, **brief.pop("environment", {})},
        }
        stated["origin"] = "captured" if raw.get("capture") else "foreign"
        raw = {**raw, "version": 4, "brief": brief, "circumstances": stated}
    if raw.get("version") == 4:
        held = [
            {"name": role, "role": role, "file": raw[role]} for role in ("nominal", "scan") if raw.get(role) is not None
        ]
        kept = {name: value for name, value in raw.items() if name not in ("nominal", "scan")}
        raw = {**kept, "version": 5, "inputs": held, "procedure": _procedure_of_four(raw.get("procedure"))}
    if raw.get("version") == 5:
        ready = dict(raw.get("readiness") or {})
        if ready.get("note"):
            ready["by"] = str((raw.get("brief") or {}).get("operator") or "not named")[:200]
        raw = {**raw, "version": 6, "readiness": ready, "prepared": [{"key": k} for k in raw.get("prepared") or ()]}
    return raw


def _procedure_of_four(procedure: Any) -> Any:
    """A procedure in which what decides names an alignment, not a frame."""
    if not isinstance(procedure, dict) or not isinstance(procedure.get("steps"), list):
        return procedure if procedure is not None else {}
    return {**procedure, "steps": [_deciding(step) for step in procedure["steps"]]}


def _deciding(step: Any) -> Any:
    if not isinstance(step, dict) or step.get("kind") != "decide" or "frame" not in step:
        return step
    return {("alignment" if name == "frame" else name): value for name, value in step.items()}


def _unpack(package: zipfile.ZipFile, taken: InputFile, folder: Path, path: Path) -> Path:
    target = folder / taken.sha256 / taken.name
    if target.exists() and content_hash(target) == taken.sha256:
        return target
    target.parent.mkdir(parents=True, exist_ok=True)
    unfinished = target.with_name(f".{os.getpid()}.part")
    with package.open(_member(taken)) as source, unfinished.open("wb") as sink:
        while block := source.read(1 << 20):
            sink.write(block)
    if content_hash(unfinished) != taken.sha256:
        unfinished.unlink()
        raise InputError(f"'{taken.name}' inside the job is damaged", str(path), "Open another copy of it")
    os.replace(unfinished, target)
    return target


def _inputs(job: Job) -> list[InputFile]:
    held = [taken.file for taken in job.inputs]
    held += [patch.file for patch in job.capture.patches] if job.capture is not None else []
    return list({_member(taken): taken for taken in held}.values())


def _member(taken: InputFile) -> str:
    return f"inputs/{taken.sha256[:16]}/{taken.name}"


class NominalReference(BaseModel):
    """Where the nominal of a procedure file lies, seen from that file."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    path: str
    unit: Unit | None = None
    sha256: Annotated[str, Field(pattern="^[0-9a-f]{64}$")] | None = None
    """Of its content; procedures of older versions do not have it."""
    faces: Annotated[tuple[Fingerprint, ...], Field(max_length=100_000)] = ()
    """What the faces are known by that the procedure names, so that another revision of the nominal can serve."""


class ProcedureFile(BaseModel):
    """A procedure on its own, as JSON: the steps, the nominal they need and the brief they start from."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    schema_name: Literal["juxtum-procedure-1"] = Field("juxtum-procedure-1", alias="schema")
    nominal: NominalReference
    brief: Brief = Brief()
    circumstances: Circumstances = Circumstances()
    procedure: Procedure


def load_procedure(path: Path, files: FileStore, tell: Callable[[str], None] = lambda _: None) -> Job:
    """A job without a scan from a procedure file.

    Where another revision of the nominal lies beside it, the faces it names are found again, or the steps say that they are lost.

    Parameters
    ----------
    tell : callable
        Called with what has to be known of it.

    Raises
    ------
    InputError
        When the file is not one, or its nominal is missing.
    """
    form = Form(ProcedureFile, "a procedure", "See docs/job-format.md", MAX_DOCUMENT_BYTES)
    document = read_document(path, form, _procedure_brought_forward)
    beside = path.parent / document.nominal.path
    nominal = files.adopt(beside, document.nominal.unit)
    job = Job(
        brief=document.brief,
        circumstances=document.circumstances,
        inputs=inputs_of(nominal),
        procedure=document.procedure,
    )
    if document.nominal.sha256 is not None and nominal.sha256 != document.nominal.sha256:
        job = _on_revision(job, document.nominal.faces, path, files, tell)
    elif document.nominal.sha256 is None:
        tell(
            f"the procedure does not say which revision of '{beside.name}' it was made with; the one beside it was taken"
        )
    return job


def _on_revision(
    job: Job, faces: tuple[Fingerprint, ...], path: Path, files: FileStore, tell: Callable[[str], None]
) -> Job:
    """The job of a procedure on a nominal that it was not made with.

    Raises
    ------
    InputError
        When none of the faces it names is in it, or the procedure does not say what they are known by.
    """
    assert job.nominal is not None
    what = f"'{job.nominal.name}' is not the nominal that this procedure was made with; it is another revision or another part"
    known = {face.number for face in faces}
    if not set(faces_named(job)) <= known or not known:
        raise InputError(
            what, str(path), "Put the right file beside it, or make the procedure anew from the new drawing"
        )
    made, notes = revised(job, faces, load_nominal(files.checked(job.nominal), job.nominal.unit, silent()))
    if not faces_named(made):
        raise InputError(f"{what}: none of its faces were found in it", str(path), "Put the right file beside it")
    for note in (what, *notes):
        tell(note)
    return made


def _procedure_brought_forward(data: bytes) -> bytes:
    """A procedure of an older version had instrument and room in its brief, and called an alignment a frame."""
    try:
        raw = json.loads(data)
    except (ValueError, RecursionError):
        return data
    if not isinstance(raw, dict):
        return data
    raw = {**raw, "procedure": _procedure_of_four(raw.get("procedure"))}
    brief = raw.get("brief")
    if isinstance(brief, dict) and {"instrument", "environment"} & set(brief) and "circumstances" not in raw:
        try:
            forward = _migrated({"version": 3, "brief": brief})
        except (TypeError, ValueError):
            return data
        raw = {**raw, "brief": forward["brief"], "circumstances": forward["circumstances"]}
    return json.dumps(raw).encode()


def save_procedure(job: Job, path: Path, nominal: Path, faces: tuple[Fingerprint, ...] = ()) -> None:
    """Write the job's procedure as a file of its own that refers to the nominal.

    Parameters
    ----------
    faces : tuple of Fingerprint
        What the faces are known by that it names.
    """
    unit = job.nominal.unit if job.nominal else None
    reference = NominalReference(
        path=os.path.relpath(nominal, path.parent), unit=unit, sha256=content_hash(nominal), faces=faces
    )
    document = ProcedureFile(
        nominal=reference, brief=job.brief, circumstances=for_other_parts(job.circumstances), procedure=job.procedure
    )
    write_atomically(path, lambda target: target.write_text(document.model_dump_json(indent=1, by_alias=True), "utf-8"))
