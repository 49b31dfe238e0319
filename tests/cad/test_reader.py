import os
import re
import signal
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pytest

from zipplumb.cad import CadModel, Limits, read_cad
from zipplumb.cad.apart import working
from zipplumb.cad.apart.working import READY
from zipplumb.core.errors import FileError


@pytest.fixture(scope="module")
def step(tmp_path_factory):
    path = tmp_path_factory.mktemp("cad") / "carrier.step"
    call = f"from zipplumb.demo.carrier import write_step; from pathlib import Path; write_step(Path({str(path)!r}))"
    subprocess.run([sys.executable, "-c", call], check=True, stdout=subprocess.DEVNULL)
    return path


def test_the_carrier_is_read_with_its_nominals(step):
    seen = []
    model = read_cad(step, lambda share, words: seen.append(share))
    assert (model.units, len(model.bodies), len(model.faces)) == ("mm", 1, 20)
    assert model.bodies[0].name == "Bearing carrier"
    bore = next(f for f in model.faces if f.nominal and f.nominal.get("radius") == pytest.approx(80))
    assert bore.inside
    spigot = next(f for f in model.faces if f.nominal and f.nominal.get("radius") == pytest.approx(100))
    assert not spigot.inside
    assert seen == sorted(seen)
    assert seen[-1] == 1.0


def test_normals_point_out_of_the_material(step):
    """The divergence theorem: the mesh, by its own winding, encloses the volume of the part."""
    model = read_cad(step)
    corners = model.positions[model.triangles].astype(float)
    volume = np.einsum("ij,ij->i", corners[:, 0], np.cross(corners[:, 1], corners[:, 2])).sum() / 6
    foot = 500 * 280 * 60 - (4 * 22**2 + 2 * 16**2) * np.pi / 4 * 60
    assert volume > foot
    for face in model.faces:
        if face.surface == "plane":
            mesh, normals = model.mesh_of(face.index)
            assert np.allclose(normals @ np.array(face.nominal["normal"]), 1, atol=1e-5)
            assert np.allclose((mesh - face.nominal["point"]) @ face.nominal["normal"], 0, atol=1e-3)


def test_packing_and_unpacking_is_the_same(step):
    model = read_cad(step)
    again = CadModel.unpack(model.pack())
    assert again.faces == model.faces
    assert np.array_equal(again.triangles, model.triangles)


def refused(path, words, **limits):
    with pytest.raises(FileError, match=words) as error:
        read_cad(path, limits=Limits(**limits))
    assert "Nothing of it was kept" in str(error.value)


def test_a_file_that_is_not_step(tmp_path):
    path = tmp_path / "poem.step"
    path.write_text("Shall I compare thee")
    refused(path, "is not a STEP, IGES, PLY, STL or OBJ file")


def test_a_cut_off_file(step, tmp_path):
    path = tmp_path / "cut.step"
    path.write_bytes(step.read_bytes()[:20_000])
    refused(path, "cut off")


def test_a_file_cut_in_the_middle_with_its_end_pasted_on(step, tmp_path):
    path = tmp_path / "pasted.step"
    path.write_bytes(step.read_bytes()[:9_000] + b"\nENDSEC;\nEND-ISO-10303-21;\n")
    with pytest.raises(FileError):
        read_cad(path)


def test_a_file_with_nothing_in_it(tmp_path):
    path = tmp_path / "empty.step"
    path.write_text("ISO-10303-21;\nHEADER;\nENDSEC;\nDATA;\nENDSEC;\nEND-ISO-10303-21;\n")
    with pytest.raises(FileError):
        read_cad(path)


def test_a_reading_that_takes_too_long_is_ended(step):
    refused(step, "longer than a file of its size may take", seconds=0.05)


def test_a_reading_that_takes_too_much_memory_is_ended(step):
    with pytest.raises(FileError):
        read_cad(step, limits=Limits(memory_mb=300))


def children(pid):
    return [int(child) for child in Path(f"/proc/{pid}/task/{pid}/children").read_text().split()]


def alive(pid):
    try:
        return "State:\tZ" not in Path(f"/proc/{pid}/status").read_text()
    except OSError:
        return False


def until_ended(*pids):
    end = time.monotonic() + 10
    while any(map(alive, pids)) and time.monotonic() < end:
        time.sleep(0.02)
    assert not any(map(alive, pids))


def test_a_crash_of_the_library_is_survived(step):
    """A child that dies by a signal, as the CAD library does on some files; the next is read by the same loaded library."""
    read_cad(step)
    ready = READY.process.pid

    def crash(share, words):
        for child in children(ready):
            os.kill(child, signal.SIGSEGV)

    with pytest.raises(FileError, match="gave up"):
        read_cad(step, progress=crash)
    assert len(read_cad(step).faces) == 20
    assert READY.process.pid == ready and children(ready) == []


def test_where_the_loaded_library_was_ended_the_next_file_is_read_by_another(step):
    read_cad(step)
    ready = READY.process.pid
    os.kill(ready, signal.SIGKILL)
    READY.process.wait()
    assert len(read_cad(step).faces) == 20
    assert READY.process.pid != ready


def test_a_child_that_is_ahead_of_its_parent_is_heard(step, tmp_path, monkeypatch):
    """On a busy machine the child tells its first steps before the process that forked it runs again."""
    slow = tmp_path / "python"
    slow.write_text(f"""#!{sys.executable}
import os, runpy, time
fork = os.fork
def forked():
    pid = fork()
    time.sleep(0.5 if pid else 0)
    return pid
os.fork = forked
runpy.run_module("zipplumb.cad.apart.ready", run_name="__main__")
""")
    slow.chmod(0o755)
    monkeypatch.setattr(working, "READY", working._Ready())
    monkeypatch.setattr(working.sys, "executable", str(slow))
    assert read_cad(step).faces


def test_where_it_is_ended_under_way_its_children_end_too(step):
    read_cad(step)
    left = []

    def end(share, words):
        left.extend(children(READY.process.pid))
        os.kill(READY.process.pid, signal.SIGKILL)

    with pytest.raises(FileError, match="gave up"):
        read_cad(step, progress=end)
    until_ended(*left)


def test_files_are_read_at_the_same_time(step):
    with ThreadPoolExecutor(4) as at_once:
        assert [len(model.faces) for model in at_once.map(read_cad, [step] * 4)] == [20] * 4


def mutated(step, tmp_path, change):
    path = tmp_path / "mutant.step"
    path.write_text(change(step.read_text()))
    return path


def test_a_face_that_is_lost_is_said(step, tmp_path):
    """A plane that refers to nothing: its face cannot be built."""

    def change(text):
        plane = list(re.finditer(r"#(\d+) = PLANE\('',#\d+\);", text))[3]
        return text[: plane.start()] + f"#{plane[1]} = PLANE('',#999999);" + text[plane.end() :]

    model = read_cad(mutated(step, tmp_path, change))
    assert len(model.faces) < 20
    said = " ".join(model.missing)
    assert "1 of the file's 20 faces could not be built" in said
    assert "breaks its standard" in said


@pytest.mark.parametrize("number", ["NAN", "1.E308", "-INF"])
def test_a_number_that_is_none_is_refused_at_once(step, tmp_path, number):
    path = mutated(
        step, tmp_path, lambda text: re.sub(r"(CARTESIAN_POINT\('',\()[-0-9.E]+,", rf"\g<1>{number},", text, count=1)
    )
    refused(path, "where a number belongs", seconds=20.0)


def test_a_whole_file_misses_nothing(step):
    assert read_cad(step).missing == ()


@pytest.mark.parametrize("seed", range(12))
def test_a_damaged_file_is_refused_or_its_loss_is_said(step, tmp_path, seed):
    """One letter of the data changed, or a line left out: whatever is read is whole, or says what it misses."""
    random = np.random.default_rng(seed)
    lines = step.read_text().splitlines(keepends=True)
    data = [k for k, line in enumerate(lines) if line.startswith("#") and "PRODUCT" not in line and "APPLICATION" not in line]
    at = int(random.choice(data))
    if seed % 2:
        del lines[at]
    else:
        where = int(random.integers(1, len(lines[at]) - 2))
        lines[at] = lines[at][:where] + str(random.choice(list("#(),'0AZ."))) + lines[at][where + 1 :]
    path = tmp_path / "mutant.step"
    path.write_text("".join(lines))
    try:
        model = read_cad(path, limits=Limits(seconds=60.0))
    except FileError as error:
        assert "Nothing of it was kept" in str(error)
        return
    assert np.all(np.isfinite(model.positions))
    if len(model.faces) < 20 or len(model.triangles) == 0:
        assert model.missing, lines[at]


def test_the_child_has_no_secrets_and_ends_with_its_parent(step):
    """A process that dies while a file is read for it."""
    dies = f"""if True:
        import os, pathlib, zipplumb.cad
        from zipplumb.cad.apart.working import READY
        def die(share, words):
            ready = READY.process.pid
            child = pathlib.Path(f"/proc/{{ready}}/task/{{ready}}/children").read_text()
            print(ready, child, "SECRET" in pathlib.Path(f"/proc/{{ready}}/environ").read_text(), flush=True)
            os._exit(0)
        zipplumb.cad.read_cad(pathlib.Path({str(step)!r}), progress=die)"""
    environment = {**os.environ, "ZIPPLUMB_SECRET": "never to be seen"}
    told = subprocess.run([sys.executable, "-c", dies], check=True, capture_output=True, text=True, env=environment).stdout
    *pids, seen = told.split()
    assert len(pids) == 2 and seen == "False"
    until_ended(*map(int, pids))


def test_a_file_that_names_no_unit_is_read_in_mm_and_says_so(step, tmp_path):
    """Of its units only those of angles are left."""

    def change(text):
        return re.sub(r"(GLOBAL_UNIT_ASSIGNED_CONTEXT\s*\(\s*\()#\d+,", r"\1", text)

    model = read_cad(mutated(step, tmp_path, change))
    assert model.units == "mm" and len(model.faces) == 20
    assert any("names no unit of length" in words for words in model.missing)


def test_what_stands_after_the_end_is_no_part_of_it(step, tmp_path):
    path = mutated(step, tmp_path, lambda text: text + "\nSIGNATURE;\n" + "AbCd" * 500 + "\nENDSEC;\n")
    assert len(read_cad(path).faces) == 20
