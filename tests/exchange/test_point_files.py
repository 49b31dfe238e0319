"""Files of scanned points: what others write is read, what is written is read again, and what is damaged gets a sentence.

Outside: pye57 and trimesh, which write and read such files themselves.
"""

import numpy as np
import pye57
import pytest
import trimesh
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from zipplumb.core.errors import FileError
from zipplumb.exchange.clouds import blocks, formats
from zipplumb.exchange.clouds.e57 import write_e57
from zipplumb.exchange.clouds.lines import SeenFrom, lines_of
from zipplumb.exchange.clouds.reading import Asked, pieces_of, read_points
from zipplumb.exchange.ply_file import write_ply


@pytest.fixture(scope="module")
def ball():
    """Points all over a ball of 200 mm about (1000, -500, 300), and its normals."""
    normals = np.random.default_rng(3).normal(size=(5000, 3))
    normals /= np.linalg.norm(normals, axis=1, keepdims=True)
    return np.array([1000.0, -500, 300]) + 200 * normals, normals


def read(path, unit_mm=1.0):
    found = list(formats.opened(path, unit_mm).blocks)

    def whole(name):
        each = [getattr(block, name) for block in found]
        return None if any(one is None for one in each) else np.concatenate(each)

    return whole("points"), whole("brightness"), whole("normals"), found


def through_a_process(path, target, asked):
    """(n, 3) points, (n,) brightness, and the ways (n, 3) in which they are looked at, as kept."""
    told = []
    read_points(path, target, asked, lambda share, points: told.append((share, points)))
    points, bright, ways = [], [], []
    for piece in pieces_of(target):
        packed = np.frombuffer(piece.points, "<f4").reshape(-1, 4).astype(float)
        assert len(packed) == piece.counts.sum()
        points.append(packed[:, :3] + np.repeat(piece.places, piece.counts, axis=0))
        bright.append(packed[:, 3])
        ways.append(packed[:, :3])
    assert told[-1] == (1.0, sum(map(len, points)))
    return np.vstack(points), np.concatenate(bright), np.vstack(ways)


def alike(found, points, within):
    """The same points in any order."""
    return found.shape == points.shape and cKDTree(points).query(found)[0].max() < within


@given(
    points=arrays(float, (7, 3), elements=st.floats(-1e5, 1e5)), off=arrays(float, 7, elements=st.floats(-10, 10)),
    name=st.text(st.characters(codec="utf-8", exclude_categories=["C"]), max_size=20),
)  # fmt: skip
def test_e57_that_is_written_is_read_again_equal(tmp_path_factory, points, off, name):
    path = tmp_path_factory.mktemp("e57") / "a.e57"
    normals = np.tile([0.0, 0.6, 0.8], (7, 1))
    write_e57(path, points, {"deviation": off}, normals, name)
    found, _, facing, _ = read(path, 0.0)
    assert np.allclose(found, points, rtol=1e-15, atol=1e-9)
    assert np.array_equal(facing, normals)


def test_another_library_reads_what_is_written_with_its_deviations(tmp_path, ball):
    points, normals = ball
    write_e57(tmp_path / "a.e57", points, {"deviation": points[:, 0] / 1e4}, normals, "Surface map 1")
    file = pye57.E57(str(tmp_path / "a.e57"))
    header = file.get_header(0)
    assert {"zipplumb:deviation", "nor:normalX"} <= set(header.point_fields)
    data = file.read_scan_raw(0, ignore_unsupported_fields=True)
    assert np.allclose(data["cartesianY"] * 1000, points[:, 1], atol=1e-9)


def test_what_another_library_writes_is_read_with_the_place_of_each_scanner(tmp_path, ball):
    points, _ = ball
    turn, place = Rotation.from_euler("xyz", [10, 20, 30], degrees=True), np.array([3.0, -2, 1])
    local = turn.inv().apply(points / 1000 - place)
    file = pye57.E57(str(tmp_path / "a.e57"), mode="w")
    data = dict(zip(("cartesianX", "cartesianY", "cartesianZ"), local.T, strict=True))
    data["intensity"] = np.linspace(0, 2048, len(points))
    data["cartesianInvalidState"] = (np.arange(len(points)) % 10 == 0).astype(np.int8)
    file.write_scan_raw(data, rotation=turn.as_quat(scalar_first=True), translation=place)
    file.write_scan_raw({k: v for k, v in data.items() if k.startswith("cart")}, translation=np.zeros(3))
    file.close()
    first, second = list(formats.opened(tmp_path / "a.e57", 0.0).blocks)
    good = data["cartesianInvalidState"] == 0
    assert np.allclose(first.points, points[good], atol=1e-3)  # it writes single precision
    assert np.allclose(first.scanner, place * 1000)
    assert first.brightness.max() == pytest.approx(2048 / 65535, rel=0.01)
    assert second.brightness is None
    assert formats.opened(tmp_path / "a.e57", 0.0).points == 2 * len(points)


def test_places_by_range_and_angles_are_read(tmp_path):
    from pye57 import libe57

    file = pye57.E57(str(tmp_path / "a.e57"), mode="w")
    node, prototype = libe57.StructureNode(file.image_file), libe57.StructureNode(file.image_file)
    buffers, values = libe57.VectorSourceDestBuffer(), np.array([[2.0, 0, 0], [3.0, np.pi / 2, 0], [1.0, 0, np.pi / 2]])
    columns = [np.ascontiguousarray(column) for column in values.T]
    for name, column in zip(("sphericalRange", "sphericalAzimuth", "sphericalElevation"), columns, strict=True):
        prototype.set(name, libe57.FloatNode(file.image_file, 0.0, libe57.E57_DOUBLE))
        buffers.append(libe57.SourceDestBuffer(file.image_file, name, column, 3, True, True))
    vector = libe57.CompressedVectorNode(file.image_file, prototype, libe57.VectorNode(file.image_file, True))
    node.set("points", vector)
    file.data3d.append(node)
    writer = vector.writer(buffers)
    writer.write(3)
    writer.close()
    file.close()
    assert np.allclose(read(tmp_path / "a.e57")[0], [[2, 0, 0], [0, 3, 0], [0, 0, 1]], atol=1e-9)


@pytest.mark.parametrize("as_text", [False, True])
def test_ply_of_another_library_is_read_and_a_mesh_tells_how_it_faces(tmp_path, as_text):
    mesh = trimesh.creation.icosphere(3, 50.0)
    (tmp_path / "mesh").write_bytes(trimesh.exchange.ply.export_ply(mesh, encoding="ascii" if as_text else "binary"))
    points, _, normals, _ = read(tmp_path / "mesh", 25.4)
    assert np.allclose(points, 25.4 * mesh.vertices, atol=1e-3)
    cosines = np.einsum("ij,ij->i", normals, mesh.vertices) / np.linalg.norm(normals, axis=1) / 50
    assert cosines.min() > 0.999
    cloud = trimesh.PointCloud(mesh.vertices, colors=np.tile([10, 20, 30, 255], (len(mesh.vertices), 1)))
    (tmp_path / "cloud").write_bytes(cloud.export(file_type="ply"))
    points, bright, normals, _ = read(tmp_path / "cloud")
    assert np.allclose(points, mesh.vertices, atol=1e-4)
    assert np.allclose(bright, 20 / 255)
    assert normals is None


def test_ply_of_quads_of_other_names_and_with_what_is_no_number(tmp_path):
    head = "ply\nformat ascii 1.0\ncomment by hand\nelement vertex 5\n"
    head += "property double x\nproperty double y\nproperty double z\n"
    rest = (
        "element face 1\nproperty list uchar int vertex_indices\nend_header\n0 0 0\n1 0 0\n1 1 0\n0 1 0\nnan 0 0\n4 0 1 2 3\n"
    )
    (tmp_path / "a").write_text(head + rest)
    points, _, normals, _ = read(tmp_path / "a")
    assert len(points) == 4
    assert np.all(normals[:3, 2] > 0)


TEXTS = {
    "blanks": "1 2 3\n4 5 6\n",
    "a head, tabs, CRLF": "X\tY\tZ\r\n1.0\t2.0\t3.0\r\n4\t5\t6\r\n",
    "commas and a comment": "# made by hand\n1,2,3\n# more\n4,5,6\n",
    "decimal commas": "1,0;2,0;3,0\n4,0;5,0;6,0\n",
    "a count before, as some write": "2\n1 2 3\n4 5 6\n",
    "powers": "1e0 2.0E+000 3e+0\n4 5 6",
    "a mark of bytes before": "\ufeff1 2 3\n4 5 6\n",
    "blank lines": "\n\n1 2 3\n\n4 5 6\n\n",
    "not a number among them": "1 2 3\nnan nan nan\n4 5 6\n",
    "blanks before and after": "   1   2   3  \n 4 5 6 \n",
}


@pytest.mark.parametrize("text", TEXTS.values(), ids=TEXTS)
def test_lists_as_people_write_them(tmp_path, text):
    (tmp_path / "a").write_bytes(text.encode())
    assert np.array_equal(read(tmp_path / "a")[0], [[1, 2, 3], [4, 5, 6]])


def test_columns_of_a_list_are_told_by_what_is_in_them(tmp_path, ball):
    points, normals = ball
    shine = np.linspace(0, 255, len(points))
    colors = np.tile([30.0, 60, 90], (len(points), 1))
    for columns, bright, facing in (
        ([points], None, None), ([points, shine[:, None]], shine / 255, None), ([points, normals], None, normals),
        ([points, colors], np.full(len(points), 60 / 255), None), ([points, shine[:, None], normals], shine / 255, normals),
    ):  # fmt: skip
        np.savetxt(tmp_path / "a", np.hstack(columns), "%.6f")
        found, told, ways, _ = read(tmp_path / "a")
        assert np.allclose(found, points, atol=1e-6)
        assert (told is None) == (bright is None) and (bright is None or np.allclose(told, bright, atol=1e-6))
        assert (ways is None) == (facing is None) and (facing is None or np.allclose(ways, facing, atol=1e-6))


BAD = {
    "nothing": (b"", "is empty"),
    "bytes": (bytes(range(256)) * 10, "neither E57, PLY"),
    "words": (b"the quick brown fox\n" * 10, "no point in its first lines"),
    "e57 in name only": (b"ASTM-E57" + bytes(5000), "no sound one"),
    "ply in name only": (b"ply\nformat ascii 1.0\n", "no sound one"),
    "ply without places": (b"ply\nformat ascii 1.0\nelement vertex 1\nproperty float a\nend_header\n1\n", "no vertices"),
    "ply cut short": (b"ply\nformat binary_little_endian 1.0\nelement vertex 9\nproperty float x\nproperty float y\n"
                      b"property float z\nend_header\n1234", "no sound one"),
    "ragged": (b"1 2 3\n4 5\n", "From line 1 on"),
    "words later": (b"1 2 3\n4 five 6\n", "From line 1 on"),
    "huge": (b"0 0 0 0 0 1\n1e300 0 0 0 0 1\n", "farther than"),
    "only numbers that are none": (b"ply\nformat ascii 1.0\nelement vertex 1\nproperty float x\nproperty float y\n"
                                   b"property float z\nend_header\nnan nan nan\n", "no points in it"),
}  # fmt: skip


@pytest.mark.parametrize(("data", "words"), BAD.values(), ids=BAD)
def test_what_cannot_be_read_gets_a_sentence(tmp_path, data, words):
    (tmp_path / "a").write_bytes(data)
    with pytest.raises(FileError, match=words):
        read_points(tmp_path / "a", tmp_path / "out", Asked(1.0), lambda share, points: None)


def test_a_damaged_e57_gets_a_sentence_wherever_the_damage_is(tmp_path, ball):
    write_e57(tmp_path / "good", *ball[:1], {}, ball[1])
    whole = (tmp_path / "good").read_bytes()
    for at in range(100, len(whole), len(whole) // 12):
        (tmp_path / "bad").write_bytes(whole[:at] + bytes(50) + whole[at + 50 :])
        with pytest.raises(FileError):
            read(tmp_path / "bad")
        (tmp_path / "bad").write_bytes(whole[:at])
        with pytest.raises(FileError):
            read(tmp_path / "bad")


def test_a_file_without_a_unit_wants_one_and_without_a_way_to_look_too(tmp_path):
    (tmp_path / "a").write_text("1 2 3\n4 5 6\n")
    with pytest.raises(FileError, match="in which unit"):
        read_points(tmp_path / "a", tmp_path / "out", Asked(0.0), lambda share, points: None)
    with pytest.raises(FileError, match="from where its points were seen"):
        read_points(tmp_path / "a", tmp_path / "out", Asked(1.0), lambda share, points: None)
    for asked in (Asked(25.4, "place", (0.0, 0.0, 900.0)), Asked(25.4, "round")):
        points, _, _ = through_a_process(tmp_path / "a", tmp_path / "out", asked)
        assert alike(points, 25.4 * np.array([[1, 2, 3], [4, 5, 6]]), 1e-3)


@pytest.mark.parametrize("asked", [Asked(1.0), Asked(1.0, "round")])
def test_every_point_is_looked_at_from_outside(tmp_path, ball, asked):
    points = ball[0]
    columns = dict(zip(("x", "y", "z", "nx", "ny", "nz"), np.hstack(ball).T, strict=True))
    (tmp_path / "a.ply").write_bytes(write_ply(columns))
    found, bright, ways = through_a_process(tmp_path / "a.ply", tmp_path / "out", asked)
    assert alike(found, points, 2e-4)
    assert np.isnan(bright).all()
    outward = (found - [1000.0, -500, 300]) / 200
    cosines = -np.einsum("ij,ij->i", ways, outward) / np.linalg.norm(ways, axis=1)
    assert cosines.min() > 0.3  # as a scanner sees it, not from behind


def test_many_points_are_read_block_by_block(tmp_path, ball, monkeypatch):
    monkeypatch.setattr(blocks, "BLOCK", 700)
    for module in ("e57", "ply", "text"):
        monkeypatch.setattr(f"zipplumb.exchange.clouds.{module}.BLOCK", 700)
    points, normals = ball
    write_e57(tmp_path / "a.e57", points, {}, normals)
    (tmp_path / "a.ply").write_bytes(write_ply(dict(zip("xyz", points.T, strict=True))))
    np.savetxt(tmp_path / "a.txt", points, "%.6f")
    for name in ("a.e57", "a.ply", "a.txt"):
        found, _, _, each = read(tmp_path / name, 0.0 if name == "a.e57" else 1.0)
        assert max(map(len, each)) <= 700
        assert np.allclose(found, points, atol=1e-6)


def test_far_from_zero_nothing_is_lost(random):
    points = np.array([4.5e9, 5.2e9, 3e5]) + random.uniform(0, 500, (300, 3))  # as surveyors' coordinates are
    found = lines_of(blocks.Block(points), SeenFrom(tuple(points[0] + [0, 0, 900])), points[0])
    again = np.repeat(found.places, found.counts, axis=0) + found.points[:, :3].astype(float)
    assert alike(again - points[0], points - points[0], 1e-3)
