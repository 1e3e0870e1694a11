"""The job: inputs plus a procedure; every result is derived by running its steps."""

from juxtum.exchange.inputfile import InputFile
from juxtum.job.document import Brief, Job
from juxtum.job.files import FileStore
from juxtum.job.outcomes import Evaluation
from juxtum.job.procedure import Procedure
from juxtum.job.roles import Input, Role, inputs_of
from juxtum.job.runner import Runner
from juxtum.job.store import load_job, save_job

__all__ = [
    "Brief",
    "Evaluation",
    "FileStore",
    "Input",
    "InputFile",
    "Job",
    "Procedure",
    "Role",
    "Runner",
    "inputs_of",
    "load_job",
    "save_job",
]
