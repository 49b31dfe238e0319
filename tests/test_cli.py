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


def test_a_plane_to_lie_in_and_the_uncertainty_of_a_hit(ring, capsys):
    plane = '{"plane": {"point": [0, 0, 3], "normal": [0, 0, 1]}}'
    assert main(["fit", "arc", str(ring), "--fixed", plane, "--u", "0.01", "--json"]) == 0
    answer = json.loads(capsys.readouterr().out)
    assert answer["shape"]["center"][2] == pytest.approx(3)
    assert 0.002 < answer["standard_uncertainty"]["radius"] < 0.01
    assert main(["fit", "ellipse", str(ring), "--fixed", '{"normal": [0, 0, 1]}', "--tip", "6", "--side", "inside"]) == 0
    answer = json.loads(capsys.readouterr().out)
    assert answer["tip_taken_off"] == "fitted as an offset"
    assert answer["surface"]["semi_minor"] == pytest.approx(13, abs=1e-6)


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["teapot", "RING"], "There is no fit"),
        (["sphere", "RING"], "lie in one plane"),
        (["circle", "nowhere.csv"], "cannot be read"),
        (["circle", "RING", "--fixed", "{radius"], "is no JSON"),
        (["circle", "RING", "--fixed", '{"wheels": 4}'], "to hold"),
        (["circle", "RING", "--criterion", "tangent"], "is not there for a circle"),
        (["circle", "RING", "--fixed", '{"plane": 3}'], "no plane"),
        (["circle", "RING", "--fixed", "[1]"], "names no parameter"),
        (["circle", "RING", "--toward", "up"], "is no JSON"),
        (["circle", "RING", "--toward", "[0, 0, 0]"], "is no direction"),
        (["circle", "RING", "--tip", "-3"], "cannot be"),
        (["circle", "RING", "--tip", "60"], "bigger than what it touched"),
        (["circle", "RING", "--u", "-1"], "uncertainty must be"),
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
