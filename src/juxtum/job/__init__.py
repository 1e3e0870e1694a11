"""The job: inputs plus a procedure; every result is derived by running its steps."""

from juxtum.exchange.inputfile import InputFile
from juxtum.job.document import Brief, Job, Procedure
from juxtum.job.files import FileStore
from juxtum.job.runner import Evaluation, Runner
from juxtum.job.store import load_job, save_job

__all__ = [
    "Brief",
    "Evaluation",
    "FileStore",
    "InputFile",
    "Job",
    "Procedure",
    "Runner",
    "load_job",
    "save_job",
]
