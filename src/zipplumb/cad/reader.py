"""Reading CAD: a file is read in a process of its own, with limits of time and memory."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from ..core.errors import FileError
from .apart.working import Limits, Work, working
from .callouts import Callouts
from .formats import NAMES, Format, format_of
from .model import CadModel, Edge
from .scratch import scratch
from .spline_pack import unpack_splines

END = 65536  # of a file, in which its last word is looked for: signatures and blanks may follow it
NOTHING_KEPT = "Nothing of it was kept."


def read_cad(
    path: Path,
    progress: Callable[[float, str], None] = lambda share, words: None,
    limits: Limits | None = None,
    called: str = "",
    units: str = "mm",
) -> CadModel:
    """Read a file of any of the formats (see ``formats``).

    Parameters
    ----------
    path : the file
    progress : called with a share of the work (0 to 1) and what is being done
    limits : of time and memory; by default by the size of the file
    called : what the person calls the file; by default its own name
    units : of length, where the format does not say them: mm, in or m

    Raises
    ------
    FileError
        Of no known format, cut off, beyond the limits, or such that the CAD library gives up or crashes.
    """
    called = called or path.name
    known = _known(path, called)
    with scratch() as folder:
        target = folder / "model"
        with working(
            "read", limits or Limits.of_file(path), folder, str(path.resolve()), str(target), known.module, units
        ) as work:
            error = _follow(work, progress)
        if error:
            raise FileError(f"{called} cannot be used: {error}.", NOTHING_KEPT, "Export it again, if possible as STEP.")
        if work.code != 0 or not target.exists():
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


def _follow(work: Work, progress: Callable[[float, str], None]) -> str | None:
    """Pass the steps on until it ends; its own word of an error, or None."""
    error = None
    try:
        for word in work.words():
            error = word.get("error", error)
            if "share" in word:
                progress(word["share"], word["words"])
    except TimeoutError:
        return "reading it took longer than a file of its size may take"
    return error
