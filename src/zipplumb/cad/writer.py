"""Writing CAD: a STEP file again, with tolerances on its faces, in a process of its own."""

from __future__ import annotations

import tempfile
from contextlib import suppress
from pathlib import Path

from ..core.errors import FileError
from .apart.working import Limits, working
from .callouts import Callouts


def with_callouts(file: bytes, callouts: Callouts, limits: Limits = Limits()) -> bytes:
    """The bodies of a STEP file with tolerances on their faces, as AP242 in mm.

    Raises
    ------
    FileError
        The CAD library gives up, crashes, or goes beyond the limits.
    """
    with tempfile.TemporaryDirectory() as folder:
        source, target = Path(folder) / "model.step", Path(folder) / "out.step"
        source.write_bytes(file)
        Path(f"{source}.callouts").write_text(callouts.to_json())
        with working("write", limits, Path(folder), str(source), str(target)) as work, suppress(TimeoutError):
            for _ in work.words():
                pass
        if work.code != 0 or not target.exists():
            raise FileError(
                "The CAD library could not write the model with its tolerances.", "Everything of the job is kept.",
                "Take the tolerances as a table instead.",
            )  # fmt: skip
        return target.read_bytes()
