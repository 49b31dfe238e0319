"""CAD files that others made, by some twenty programs: what the bare CAD library reads, we read.

They come from packages of documentation and of examples (see ``files_of_others`` in ``./run``); none is shipped. With
``FOREIGN=1`` a large library of models is read too, every 25th of it.
"""

import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from zipplumb.cad import read_cad
from zipplumb.cad.blocks import Blocks
from zipplumb.cad.surfaces import Surfaces
from zipplumb.core.errors import PlumbError

HERE = Path(__file__).parent
FOLDER = HERE.parent.parent / "var" / "files-of-others"
KINDS = (".stp", ".step", ".igs", ".iges", ".stl", ".ply", ".obj")
LARGEST = 1_500_000  # bytes
FEWEST = {"step": 55, "iges": 2, "mesh": 12}


def plain_name(path: Path) -> str:
    return path.name.removesuffix(".gz").lower()


def files() -> list[Path]:
    found = [p for p in sorted(FOLDER.rglob("*")) if plain_name(p).endswith(KINDS) and p.stat().st_size < LARGEST]
    return list({plain_name(p) + str(p.stat().st_size): p for p in found if "many" not in p.parts}.values())


def many() -> list[Path]:
    return sorted((FOLDER / "many").rglob("*.step"))[2::25]


FILES, MANY = files(), many()


def read_both(paths: list[Path]) -> dict[str, dict]:
    """By file; one that takes the process with it is missing, and what follows it is read in another."""
    found: dict[str, dict] = {}
    left = [str(p) for p in paths]
    while left:
        run = subprocess.run([sys.executable, HERE / "read_both.py", *left], capture_output=True, text=True)
        told = [json.loads(line) for line in run.stdout.splitlines()]
        found |= {one["file"]: one for one in told}
        left = left[len(told) + 1 :]
    return found


@pytest.fixture(scope="module")
def read():
    return read_both(FILES)


def compare(one: dict) -> None:
    """The same faces in the same place, each with its exact surface; or a refusal where there is nothing."""
    bare, ours = one["bare"], one["ours"]
    if bare["faces"] == 0:
        assert "names the files" in ours["refused"]
        return
    assert "refused" not in ours, ours["refused"]
    assert ours["faces"] == bare["faces"], ours["missing"]
    size = float(np.linalg.norm(np.subtract(bare["box"][3:], bare["box"][:3])))
    assert np.abs(np.subtract(ours["box"], bare["box"])).max() < 2e-3 * size  # triangles lie a little within a round face
    assert ours["exact"] or one["module"] == "mesh"
    assert not ours["picked"]


def test_there_are_some():
    if not FOLDER.exists():
        pytest.skip("they could not be fetched: this machine reaches no packages")
    kinds = [plain_name(p).rsplit(".", 1)[1] for p in FILES]
    count = {"step": sum(k in ("stp", "step") for k in kinds), "iges": sum(k in ("igs", "iges") for k in kinds)}
    count["mesh"] = len(kinds) - sum(count.values())
    assert all(count[kind] >= least for kind, least in FEWEST.items()), count


@pytest.mark.parametrize("path", FILES, ids=plain_name)
def test_what_the_library_reads_is_read(read, path):
    assert str(path) in read, "the process that read it died"
    compare(read[str(path)])


@pytest.mark.parametrize("path", MANY, ids=plain_name)
def test_many_more(path):
    compare(read_both([path])[str(path)])


@pytest.mark.parametrize("path", [p for p in FILES if plain_name(p).endswith((".stp", ".step"))][::6], ids=lambda p: p.name)
def test_blocks_of_space_find_on_other_peoples_parts_what_triangles_find(path):
    try:
        surfaces = Surfaces(read_cad(path))
    except PlumbError:
        return  # nothing is in it
    points, normals = surfaces.spread(3000)
    size = float(np.ptp(points, axis=0).max())
    points = points + normals * np.random.default_rng(1).normal(0, 0.003 * size, (len(points), 1))
    feet, _, faces, _ = surfaces.nearest_faces(points)  # so few: by triangles
    blocks = Blocks.of(surfaces.corners, surfaces.triangles, surfaces.face_of)
    found = np.full_like(points, np.nan), np.full_like(points, np.nan), np.full(len(points), -1)
    sure = surfaces.by_blocks(blocks, points, *found)
    assert np.linalg.norm(found[0][sure] - feet[sure], axis=1).max(initial=0.0) < 1e-6 * max(size, 1.0)
    assert np.array_equal(found[2][sure], faces[sure])
