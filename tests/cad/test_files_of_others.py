"""CAD files that others made, from a package of Debian's documentation: what the bare CAD library reads, we read.

``./run test`` fetches them (see ``files_of_others`` there); none is shipped.
"""

import gzip
import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from zipplumb.cad import read_cad

FOLDER = Path(__file__).parent.parent.parent / "var" / "files-of-others"
STEP = sorted({p.name.removesuffix(".gz"): p for p in FOLDER.rglob("*.st*p.gz")}.values())
MESHES = sorted({p.name: p for p in FOLDER.rglob("*.stl.gz")}.values())
BARE = """
import json, sys
from OCP.Bnd import Bnd_Box
from OCP.BRepBndLib import BRepBndLib
from OCP.BRepTools import BRepTools
from OCP.STEPControl import STEPControl_Reader
from OCP.TopAbs import TopAbs_ShapeEnum
from OCP.TopExp import TopExp_Explorer
reader = STEPControl_Reader()
reader.ReadFile(sys.argv[1])
reader.TransferRoots()
shape, count, box = reader.OneShape(), 0, Bnd_Box()
faces = TopExp_Explorer(shape, TopAbs_ShapeEnum.TopAbs_FACE)
while faces.More():
    count += 1
    faces.Next()
BRepBndLib.AddOptimal_s(shape, box, False, False)
low, high = box.CornerMin(), box.CornerMax()
print(json.dumps({"faces": count, "box": [low.X(), low.Y(), low.Z(), high.X(), high.Y(), high.Z()]}))
"""


@pytest.fixture
def unpacked(request, tmp_path):
    path = tmp_path / request.param.name.removesuffix(".gz")
    path.write_bytes(gzip.decompress(request.param.read_bytes()))
    return path


def test_there_are_some():
    if not FOLDER.exists():
        pytest.skip("they could not be fetched: this machine reaches no packages")
    assert len(STEP) >= 3
    assert len(MESHES) >= 4


@pytest.mark.parametrize("unpacked", STEP, indirect=True, ids=lambda p: p.name.removesuffix(".gz"))
def test_a_step_file_has_the_same_faces_and_the_same_box(unpacked):
    answer = subprocess.run([sys.executable, "-c", BARE, str(unpacked)], check=True, capture_output=True, text=True).stdout
    bare = json.loads(answer.splitlines()[-1])
    model = read_cad(unpacked)
    boxes = np.array([f.box for f in model.faces])
    box = np.concatenate([boxes[:, :3].min(axis=0), boxes[:, 3:].max(axis=0)])
    size = float(np.linalg.norm(box[3:] - box[:3]))
    print(f"{unpacked.name}: {len(model.bodies)} bodies, {len(model.faces)} faces, "
          f"{sum(f.recognised for f in model.faces)} recognised beyond their written kind")  # fmt: skip
    assert len(model.faces) == bare["faces"]
    assert np.abs(box - bare["box"]).max() < 2e-3 * size  # triangles lie a little within a round face
    assert all(f.nominal or f.index in model.splines for f in model.faces)  # each has its exact surface


@pytest.mark.parametrize("unpacked", MESHES, indirect=True, ids=lambda p: p.name.removesuffix(".gz"))
def test_a_mesh_has_the_same_box(unpacked):
    import trimesh

    model, mesh = read_cad(unpacked), trimesh.load_mesh(unpacked)
    assert np.allclose(model.positions.min(axis=0), mesh.bounds[0], atol=1e-4)
    assert np.allclose(model.positions.max(axis=0), mesh.bounds[1], atol=1e-4)
