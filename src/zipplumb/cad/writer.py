"""Writing CAD: a STEP file again, with tolerances on its faces, in a process of its own."""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path

from ..core.errors import FileError
from .callouts import Callouts
from .reader import Limits, bare


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
        command = [sys.executable, "-m", "zipplumb.cad.step_out", str(source), str(target)]
        command += [str(limits.memory_mb), str(max(1, round(limits.seconds)))]
        with subprocess.Popen(
            command, cwd=folder, env=bare(folder), stdin=subprocess.PIPE, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        ) as child:
            try:
                child.wait(timeout=limits.seconds)
            except subprocess.TimeoutExpired:
                child.kill()
        if child.returncode != 0 or not target.exists():
            raise FileError(
                "The CAD library could not write the model with its tolerances.", "Everything of the job is kept.",
                "Take the tolerances as a table instead.",
            )  # fmt: skip
        return target.read_bytes()
