import json

import numpy as np
import pytest

from zipplumb.cli import main


@pytest.fixture
def ring(tmp_path):
    turn = np.linspace(0, 6, 12)
    path = tmp_path / "ring.csv"
    lines = ["x,y,z", *(f"{10 * np.cos(t):.9f};{10 * np.sin(t):.9f};{5.0}" for t in turn)]
    path.write_text("\n".join(lines))
    return path


def test_a_fit_from_a_file(ring, capsys):
    assert main(["fit", "circle", str(ring)]) == 0
    answer = json.loads(capsys.readouterr().out)
    assert answer["shape"]["radius"] == pytest.approx(10)
    assert answer["points"] == 12
    assert answer["rms_mm"] < 1e-6


def test_a_held_radius_a_criterion_and_a_tip(ring, capsys):
    assert main(["fit", "circle", str(ring), "--criterion", "circumscribed", "--tip", "6", "--side", "inside"]) == 0
    answer = json.loads(capsys.readouterr().out)
    assert answer["criterion"] == "circumscribed"
    assert answer["surface"]["radius"] == pytest.approx(13)
    assert main(["fit", "circle", str(ring), "--fixed", '{"radius": 9.5}']) == 0
    assert json.loads(capsys.readouterr().out)["shape"]["radius"] == 9.5


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["teapot", "RING"], "There is no fit"),
        (["sphere", "RING"], "lie in one plane"),
        (["circle", "nowhere.csv"], "cannot be read"),
        (["circle", "RING", "--fixed", "{radius"], "is no JSON"),
        (["circle", "RING", "--fixed", '{"wheels": 4}'], "to hold"),
        (["circle", "RING", "--criterion", "tangent"], "is not there for a circle"),
    ],
)
def test_what_does_not_hold_gets_its_sentence(ring, capsys, arguments, words):
    assert main(["fit", *(str(ring) if a == "RING" else a for a in arguments)]) == 2
    captured = capsys.readouterr()
    assert words in captured.err
    assert captured.out == ""


def test_a_line_that_is_no_point_is_named(tmp_path, capsys):
    path = tmp_path / "bad.csv"
    path.write_text("x,y,z\n1,2,3\n1,two,3\n")
    assert main(["fit", "plane", str(path)]) == 2
    assert "Line 3" in capsys.readouterr().err
