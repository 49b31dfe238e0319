"""Reading CAD: a file is read in a process of its own, with limits of time and memory."""

from __future__ import annotations

import json
import os
import selectors
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

from ..core.errors import FileError
from .callouts import Callouts
from .formats import NAMES, Format, format_of
from .model import CadModel, Edge
from .spline_pack import unpack_splines

END = 65536  # of a file, in which its last word is looked for: signatures and blanks may follow it
NOTHING_KEPT = "Nothing of it was kept."


@dataclass(frozen=True)
class Limits:
    seconds: float = 300.0
    memory_mb: int = 8000


def read_cad(
    path: Path,
    progress: Callable[[float, str], None] = lambda share, words: None,
    limits: Limits = Limits(),
    called: str = "",
    units: str = "mm",
) -> CadModel:
    """Read a file of any of the formats (see ``formats``).

    Parameters
    ----------
    path : the file
    progress : called with a share of the work (0 to 1) and what is being done
    limits : of time and memory
    called : what the person calls the file; by default its own name
    units : of length, where the format does not say them: mm, in or m

    Raises
    ------
    FileError
        Of no known format, cut off, beyond the limits, or such that the CAD library gives up or crashes.
    """
    called = called or path.name
    known = _known(path, called)
    with tempfile.TemporaryDirectory() as folder:
        target = Path(folder) / "model"
        command = [sys.executable, "-m", "zipplumb.cad.child", str(path.resolve()), str(target), str(limits.memory_mb)]
        command += [str(max(1, round(limits.seconds))), known.module, units]
        with subprocess.Popen(
            command, cwd=folder, env=bare(folder), stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL
        ) as child:
            try:
                error = _follow(child, progress, time.monotonic() + limits.seconds)
            finally:
                if child.poll() is None:
                    child.kill()
        if error:
            raise FileError(f"{called} cannot be used: {error}.", NOTHING_KEPT, "Export it again, if possible as STEP.")
        if child.returncode != 0 or not target.exists():
            raise FileError(
                f"The CAD library gave up on {called}.",
                NOTHING_KEPT,
                "Export it again, if possible as STEP AP214 or AP242 with solids only.",
            )
        edges = tuple(Edge(**edge) for edge in json.loads(Path(f"{target}.edges").read_text()))
        splines = unpack_splines(Path(f"{target}.splines").read_bytes())
        callouts = Callouts.from_json(Path(f"{target}.callouts").read_text())
        return replace(CadModel.unpack(target.read_bytes()), edges=edges, splines=splines, callouts=callouts)


def _known(path: Path, called: str) -> Format:
    """Its format, with its end there: a quick word before the long work."""
    known = format_of(path, called)
    if known is None:
        raise FileError(f"{called} is not a {NAMES} file.", NOTHING_KEPT, "Choose a file that was exported as one of these.")
    with path.open("rb") as file:
        file.seek(0, 2)
        file.seek(max(0, file.tell() - END))
        tail = file.read()
    if not known.whole(tail):
        raise FileError(
            f"{called} is cut off: its end is missing.",
            NOTHING_KEPT,
            "Copy it again from where it came, or export it again.",
        )
    return known


def bare(folder: str) -> dict[str, str]:
    """The child's environment: no secrets, and a home of its own that goes with it."""
    return {"PATH": os.defpath, "HOME": folder, "TMPDIR": folder, "LANG": "C.UTF-8"}


def _follow(child: subprocess.Popen, progress, deadline: float) -> str | None:
    """Pass the child's steps on until it ends; its own word of an error, or None."""
    error, steps = None, child.stdout
    assert steps is not None
    with selectors.DefaultSelector() as selector:
        selector.register(steps, selectors.EVENT_READ)
        while True:
            if not selector.select(timeout=max(0.0, deadline - time.monotonic())):
                child.kill()
                return "reading it took longer than is allowed"
            line = steps.readline()
            if not line:
                child.wait()
                return error
            word = json.loads(line)
            error = word.get("error", error)
            if "share" in word:
                progress(word["share"], word["words"])
