"""What the stand-in's bedplate does when its screws are turned, and what its tracker sees of it."""

import json

import numpy as np
import pytest

from zipplumb.core.placing.adjusters import answers_of
from zipplumb.demo import bedplate, bedplate_real
from zipplumb.devices.sim.on_screws import OnScrews


@pytest.fixture
def foot():
    nests, details = bedplate_real.nests_and_details()
    return OnScrews.of_data(details["Gearbox foot"]), {name: np.array(at) for name, at in nests.items()}


def test_a_foot_turned_up_lifts_what_is_over_it_by_its_real_pitch(foot):
    detail, nests = foot
    before = {name: nests[name] for name in detail.nests}
    turns = {"Foot 1": 0.5, "Foot 2": 0.5, "Foot 3": 0.5}
    after = detail.turned(turns, nests)
    lifted = np.array([after[name][2] - before[name][2] for name in detail.nests])
    pitches = [screw.mm_per_turn for screw in detail.screws[:3]]
    assert min(pitches) * 0.5 - 0.15 < lifted.mean() < max(pitches) * 0.5 + 0.15
    about = np.mean(list(before.values()), axis=0)
    assert np.linalg.matrix_rank(answers_of(detail.screws, about)) == 6  # they move it every way


def test_play_is_lost_only_where_a_screw_turns_round(foot):
    detail, nests = foot
    (play,) = [p for s, p in zip(detail.screws, detail.play_mm, strict=True) if s.name == "End"]
    away = next(s.direction for s in detail.screws if s.name == "End")

    def turn(turns):
        moved = detail.turned({"End": turns}, nests)
        way = np.mean([(moved[n] - nests[n]) @ away for n in detail.nests])
        nests.update(moved)
        return way

    first, second, back = turn(1.0), turn(1.0), turn(-1.0)
    assert second == pytest.approx(first, abs=1e-3)
    assert -back == pytest.approx(first - play, abs=1e-3)
    with pytest.raises(KeyError, match="no screw Foot 9"):
        detail.turned({"Foot 9": 1.0}, nests)


def test_details_lie_off_at_first_by_what_screws_can_mend():
    nests, details = bedplate_real.nests_and_details()
    assert json.loads(json.dumps(details)) == details
    for movable in bedplate.MOVABLE:
        at = bedplate_real.WORLD_FROM_PART.inverse().points(np.array([nests[name] for name in movable.targets]))
        off = np.linalg.norm(at - list(movable.targets.values()), axis=1)
        assert 0.3 < off.max() < 6.0
