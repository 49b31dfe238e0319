"""Writing CAD: a STEP file again, with tolerances on its faces, in a process of its own."""

from __future__ import annotations

from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path

from ..core.errors import FileError
from .apart.working import Limits, working
from .callouts import Callouts
from .scratch import scratch


def with_callouts(pieces: Iterable[bytes], callouts: Callouts, limits: Limits = Limits()) -> bytes:
    """The bodies of a STEP file, which comes in pieces, with tolerances on their faces, as AP242 in mm.

    Raises
    ------
    FileError
        The CAD library gives up, crashes, or goes beyond the limits.
    """
    with scratch() as folder:
        source, target = folder / "model.step", folder / "out.step"
        with source.open("wb") as file:
            file.writelines(pieces)
        Path(f"{source}.callouts").write_text(callouts.to_json())
        with working("write", limits, folder, str(source), str(target)) as work, suppress(TimeoutError):
            for _ in work.words():
                pass
        if work.code != 0 or not target.exists():
            raise FileError(
                "The CAD library could not write the model with its tolerances.", "Everything of the job is kept.",
                "Take the tolerances as a table instead.",
            )  # fmt: skip
        return target.read_bytes()
