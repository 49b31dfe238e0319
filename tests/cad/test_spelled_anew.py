"""What the standards allow is read the same, however it is spelled."""

import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import spelled
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from test_formats import written

from zipplumb.cad import read_cad

HERE = Path(__file__).parent
PARTS = ("carrier", "bracket", "bedplate")
WRITE = """
import sys
from pathlib import Path
from importlib import import_module
for name in sys.argv[2:]:
    import_module(f"zipplumb.demo.{name}").write_step(Path(sys.argv[1]) / f"{name}.step")
"""


class Reader:
    """One process that reads file after file, so that each costs its reading only."""

    def __init__(self):
        self.process = subprocess.Popen(
            [sys.executable, HERE / "read_both.py", "-"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
            stderr=subprocess.DEVNULL,
        )  # fmt: skip

    def __call__(self, path: Path) -> dict:
        self.process.stdin.write(f"{path}\n")
        self.process.stdin.flush()
        return json.loads(self.process.stdout.readline())


@pytest.fixture(scope="module")
def reader():
    reading = Reader()
    yield reading
    reading.process.stdin.close()
    reading.process.wait(10)


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    folder = tmp_path_factory.mktemp("spelled")
    subprocess.run([sys.executable, "-c", WRITE, folder, *PARTS], check=True, stdout=subprocess.DEVNULL)
    written(folder / "part.igs")
    return folder


def same(one: dict, other: dict) -> None:
    """The same faces, in whatever order the bodies come."""
    assert "refused" not in other, other
    assert one["faces"] == other["faces"] and other["missing"] == []
    assert sorted(map(rounded, one["nominals"])) == sorted(map(rounded, other["nominals"]))


def rounded(nominal: dict | None) -> str:
    return repr({k: v if isinstance(v, str) else (np.round(v, 6) + 0.0).tolist() for k, v in (nominal or {}).items()})


@pytest.fixture(scope="module")
def plain(reader, folder):
    return {path.name: reader(path)["ours"] for path in sorted(folder.iterdir())}


@settings(max_examples=16, database=None)
@given(name=st.sampled_from(PARTS), seed=st.integers(0, 2**32))
def test_step(reader, folder, plain, name, seed):
    again = folder / "again.stp"
    again.write_bytes(spelled.step((folder / f"{name}.step").read_text(), seed))
    same(plain[f"{name}.step"], reader(again)["ours"])


@settings(max_examples=10, database=None)
@given(seed=st.integers(0, 2**32))
def test_iges(reader, folder, plain, seed):
    again = folder / "again.igs"
    again.write_bytes(spelled.iges((folder / "part.igs").read_text(), seed))
    same(plain["part.igs"], reader(again)["ours"])


QUADS = "# a box\nv 0 0 0\nv 10 0 0\nv 10 20 0\nv 0 20 0\nv 0 0 30\nv 10 0 30\nv 10 20 30\nv 0 20 30\n"
SIDES = ((4, 3, 2, 1), (5, 6, 7, 8), (1, 2, 6, 5), (2, 3, 7, 6), (3, 4, 8, 7), (4, 1, 5, 8))
OBJ = {
    "quads": "".join(f"f {' '.join(map(str, side))}\n" for side in SIDES),
    "negative": "".join(f"f {' '.join(str(k - 9) for k in side)}\n" for side in SIDES),
    "slashes": "".join(f"f {' '.join(f'{k}//' for k in side)}\n" for side in SIDES),
}


def is_the_box(model) -> None:
    assert np.allclose(model.positions.min(axis=0), 0, atol=1e-6)
    assert np.allclose(model.positions.max(axis=0), [10, 20, 30], atol=1e-5)
    assert len(model.triangles) == 12 and model.missing == ()


@pytest.mark.parametrize("breaks", ["\n", "\r\n"], ids=["lf", "crlf"])
@pytest.mark.parametrize("faces", sorted(OBJ))
def test_obj(tmp_path, faces, breaks):
    path = tmp_path / "box.OBJ"
    path.write_bytes((QUADS + OBJ[faces]).replace("\n", breaks).encode())
    is_the_box(read_cad(path))


@pytest.mark.parametrize("order", ["<", ">"], ids=["little", "big"])
def test_ply_in_both_byte_orders(tmp_path, order):
    box = trimesh.creation.box(bounds=[[0, 0, 0], [10, 20, 30]])
    words = {"<": "little", ">": "big"}[order]
    head = f"ply\nformat binary_{words}_endian 1.0\ncomment nan inf\nelement vertex 8\nproperty float x\nproperty float y\n"
    head += "property float z\nelement face 12\nproperty list uchar int vertex_indices\nend_header\n"
    faces = np.empty(12, [("n", "u1"), ("k", f"{order}i4", 3)])
    faces["n"], faces["k"] = 3, box.faces
    path = tmp_path / "box.ply"
    path.write_bytes(head.encode() + box.vertices.astype(f"{order}f4").tobytes() + faces.tobytes())
    is_the_box(read_cad(path))


def test_a_binary_stl_that_begins_with_solid(tmp_path):
    data = trimesh.creation.box(bounds=[[0, 0, 0], [10, 20, 30]]).export(file_type="stl")
    path = tmp_path / "box.stl"
    path.write_bytes(b"solid made by another program".ljust(80) + data[80:])
    is_the_box(read_cad(path))
