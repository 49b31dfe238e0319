"""``zip-plumb report JOB``: a job's report as a file, as the job stands."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from ..core.errors import InputError
from ..serve.settings import must_be_set


def add_to(commands) -> None:
    """The command and its options."""
    command = commands.add_parser("report", help="write a job's report to a file, as the job stands")
    command.add_argument("job", help="its name, or of a piece NAME, SERIAL; or its number as in the address of its page")
    command.add_argument("--report", help="the report's name; left out, the job's first")
    command.add_argument("--kind", default="pdf", help="pdf, xlsx, csv, text, json, page or step")
    command.add_argument("--out", help="the file; left out, standard output")
    command.set_defaults(call=run)


def run(args: argparse.Namespace) -> int:
    """Raises PlumbError for anything that is not there."""
    from ..jobs.report.making import made_now

    must_be_set("ZIPPLUMB_DATABASE")
    data = made_now(args.job, args.kind, args.report)
    if args.out is None:
        sys.stdout.buffer.write(data)
        return 0
    try:
        Path(args.out).write_bytes(data)
    except OSError as error:
        raise InputError(
            f"{args.out} could not be written: {error.strerror}.", "The job is untouched.", "Name another."
        ) from None
    return 0
