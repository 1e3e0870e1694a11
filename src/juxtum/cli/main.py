"""Entry of the command line: run a command, turn failures into sentences."""

from __future__ import annotations

import argparse
import logging
import os
import sys
import warnings
from collections.abc import Callable, Sequence
from importlib import import_module

from juxtum.cli.stopping import ending_tidily
from juxtum.errors import Cancelled, JuxtumError

BAD = 2
MODULES = {
    "plan": "planning",
    "capture": "capturing",
    "device": "capturing",
    "info": "facts",
    "register": "registering",
    "assemble": "assembling",
    "fit": "fitting",
    "section": "sectioning",
    "separate": "separating",
    "finish": "finishing",
    "gap": "gap",
}
"""Where commands live that are not in `commands`."""
COMMANDS = {
    "assemble": "assemble_command",
    "separate": "separate_command",
    "finish": "finish_command",
    "gap": "gap_command",
}
"""Functions that are not called as their command is."""


def main(arguments: Sequence[str] | None = None) -> int:
    """Run `juxtum` and return its exit status."""
    from juxtum.cli.parser import make_parser

    warnings.simplefilter("ignore")
    try:
        parser = make_parser()
        options = parser.parse_args(_joined_numbers(list(sys.argv[1:] if arguments is None else arguments)))
        if options.command is None:
            parser.print_help(sys.stderr)
            return BAD
        with ending_tidily(options.command):
            return _command(options.command)(options)
    except JuxtumError as problem:
        return _say(problem.sentence)
    except (KeyboardInterrupt, Cancelled):
        return _say("stopped; nothing unfinished was written.")
    except MemoryError:
        return _say("there is not enough memory for this. Thin the scan, or close other programs.")
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except Exception as problem:  # noqa: BLE001 - the last net: no traceback may reach a user
        return _say(_unexpected(problem))


def _joined_numbers(arguments: list[str]) -> list[str]:
    """`--lower -0,2` as one word, since what starts with a minus is taken for an option."""
    result: list[str] = []
    for word in arguments:
        if (
            result
            and result[-1] in ("--lower", "--upper", "--plane")
            and word.startswith("-")
            and word[1:2] in set("0123456789.,")
        ):
            result[-1] += "=" + word
        else:
            result.append(word)
    return result


def _command(name: str) -> Callable[[argparse.Namespace], int]:
    # Only what a command needs is imported: a look at a file should not wait for planning.
    module = import_module(f"juxtum.cli.{MODULES.get(name, 'commands')}")
    # Its own name is that of what it runs.
    found: Callable[[argparse.Namespace], int] = getattr(module, COMMANDS.get(name, name))
    return found


def _say(sentence: str) -> int:
    print(f"juxtum: {' '.join(sentence.split())}", file=sys.stderr)
    return BAD


def _unexpected(problem: Exception) -> str:
    from juxtum.log import log_file, start_log

    start_log()
    logging.getLogger("juxtum").error("unexpected failure", exc_info=problem)
    return f"something unexpected went wrong ({type(problem).__name__}). The details are in {log_file()}."
