"""Details on adjusters: made-up ones that really are otherwise than stated."""

from dataclasses import replace

import numpy as np
import pytest
from scipy.optimize import least_squares
from scipy.spatial.transform import Rotation

from zipplumb.core.errors import AlignmentError
from zipplumb.core.frames import Motion
from zipplumb.core.placing import Adjuster, Effect, Progress, learned, learned_each, lies, plan_turns, progress, wanted_first
from zipplumb.core.placing.adjusters import answers_of

# a bearing carrier 500 x 280: three feet, two screws at its side, one at its end; targets on top
TARGETS = np.array([[-220.0, -120, 240], [220, -120, 240], [220, 120, 240], [-220, 120, 300]])
X, Y, Z = np.eye(3)
FEET = [
    Adjuster(f"Foot {k}", np.array(p, float), Z, 1.5) for k, p in enumerate(((-230, -130, 0), (230, -130, 0), (0, 130, 0)), 1)
]
SIDES = [
    Adjuster("Side left", np.array([-200.0, -140, 40]), Y, 1.25),
    Adjuster("Side right", np.array([200.0, -140, 40]), Y, 1.25),
]
SIX = [*FEET, *SIDES, Adjuster("End", np.array([-250.0, 0, 40]), X, 1.0)]
ZONES = np.full(len(TARGETS), 0.05)
U_MM = 0.006


class Real:
    """A detail as it really stands: its screws are not what is stated, and have play."""

    def __init__(self, random, adjusters, wrong=0.1, backlash=0.1, off_mm=3.0, off_rad=5e-3):
        self.random, self.adjusters = random, adjusters
        self.pitch = [a.mm_per_turn * (1 + random.uniform(-wrong, wrong)) for a in adjusters]
        self.play = random.uniform(0, backlash, len(adjusters))
        self.slack = random.uniform(0, 1, len(adjusters)) * self.play  # that is taken up when it is turned up
        turn = random.normal(size=3)
        way = random.normal(size=3)
        self.pose = Motion(
            Rotation.from_rotvec(off_rad * turn / np.linalg.norm(turn)).as_matrix(), off_mm * way / np.linalg.norm(way)
        )

    def seen(self):
        return self.pose.points(TARGETS) + self.random.normal(0, U_MM, TARGETS.shape)

    def turned(self, turns):
        """Every contact goes along its direction by what is left of its screw's move; the detail follows rigidly."""
        moves = np.zeros(len(self.adjusters))
        for k, n in enumerate(turns):
            move = n * self.pitch[k]
            taken = np.clip(move, -(self.play[k] - self.slack[k]), self.slack[k])
            self.slack[k] -= taken
            moves[k] = move - taken
        motion, *_ = np.linalg.lstsq(answers_of(self.adjusters, np.zeros(3)), moves, rcond=None)
        self.pose = Motion(Rotation.from_rotvec(motion[3:]).as_matrix(), motion[:3]) @ self.pose

    @property
    def off(self):
        return np.linalg.norm(self.pose.points(TARGETS) - TARGETS, axis=1).max()


def rounds(real, adjusters, most=4):
    """How many rounds of proposed turns until all targets are within their zones; None: more than that."""
    effects = [Effect.stated(a) for a in adjusters]
    found = lies(TARGETS, real.seen(), np.full(len(TARGETS), U_MM))
    for count in range(most + 1):
        plan = plan_turns(found, TARGETS, ZONES, adjusters, effects)
        if real.off <= ZONES[0]:
            return count
        by_name = {turn.name: turn.turns for turn in plan.turns}
        turns = np.array([by_name.get(a.name, 0.0) for a in adjusters])
        real.turned(turns)
        after = lies(TARGETS, real.seen(), np.full(len(TARGETS), U_MM))
        effects, found = learned(effects, adjusters, turns, found, after), after
    return None


def test_a_detail_far_off_sits_after_four_rounds_though_its_screws_are_not_what_is_stated():
    counts = [rounds(Real(np.random.default_rng(seed), SIX), SIX) for seed in range(200)]
    assert None not in counts, counts
    assert np.mean(counts) < 3.2


def test_how_it_lies_is_the_least_squares_motion(random):
    """Against scipy's least_squares over a rotation vector and a shift."""
    real = Real(random, SIX)
    actual, u = real.seen(), np.array([0.01, 0.02, 0.01, 0.03])
    found = lies(TARGETS, actual, u)

    def left(p):
        return ((Rotation.from_rotvec(p[:3]).apply(TARGETS - found.about) + found.about + p[3:] - actual) / u[:, None]).ravel()

    best = least_squares(left, np.zeros(6), xtol=1e-15, ftol=1e-15, gtol=1e-15).x
    assert found.motion[:3] == pytest.approx(best[3:], abs=1e-8)
    assert found.motion[3:] == pytest.approx(best[:3], abs=1e-6)  # a turn of 5 mrad: told by its sine
    assert not found.untold.size


def test_its_uncertainty_holds_the_truth(random):
    held = 0
    for _ in range(400):
        real = Real(random, SIX, off_mm=0.3, off_rad=5e-4)
        found = lies(TARGETS, real.seen(), np.full(4, U_MM))
        true = np.concatenate(
            [real.pose.points(found.about) - found.about, Rotation.from_matrix(real.pose.rotation).as_rotvec()]
        )
        off = found.motion - true
        held += off @ np.linalg.solve(found.covariance, off) < 12.592  # chi-square, six, 95 %
    assert 0.92 < held / 400 < 0.98, held / 400


@pytest.mark.parametrize(("count", "untold"), [(1, 3), (2, 1), (3, 0)])
def test_with_few_targets_what_is_not_told_is_said_and_left(count, untold):
    found = lies(TARGETS[:count], TARGETS[:count] + [0.4, -0.2, 0.1], np.full(count, U_MM))
    assert found.untold.shape == (6, untold)
    assert found.motion == pytest.approx([0.4, -0.2, 0.1, 0, 0, 0], abs=1e-9)


@pytest.mark.parametrize(("seen", "wanted"), [((), 3), ((0,), 2), ((0, 1), 1), ((0, 1, 2), 0), ((0, 1, 2, 3), 0)])
def test_a_rigid_detail_is_told_by_three_targets(seen, wanted):
    """Three places that are not on a line fix a rigid body (kinematics); more are not asked for."""
    left = [k for k in range(4) if k not in seen]
    found = wanted_first(TARGETS[list(seen)], TARGETS[left], SIX)
    assert len(found) == len(set(found)) == wanted
    known = [*seen, *(left[k] for k in found)]
    assert lies(TARGETS[known], TARGETS[known], np.full(len(known), U_MM)).untold.size == 0


def test_only_what_the_adjusters_do_is_asked_for():
    """Two places on a level line tell how far it goes across at any place of it, whatever else the detail does, and where it is
    pushed along that at one end the place there does; of two places no third is there to be asked for."""
    low = np.array([[-220.0, 0, 40], [220, 0, 40], [0, 120, 40]])
    assert wanted_first(low[:1], low[1:], SIX[-1:]) == []
    assert wanted_first(low[:2], low[2:], SIDES) == []
    assert len(wanted_first(low[:1], low[1:], SIDES)) == 1
    assert wanted_first(TARGETS[:2], TARGETS[:0], FEET) == []


def test_no_target_and_no_number_are_refused():
    with pytest.raises(AlignmentError, match="No target"):
        lies(np.empty((0, 3)), np.empty((0, 3)), np.empty(0))
    with pytest.raises(AlignmentError, match="no place"):
        lies(TARGETS, TARGETS * np.nan, np.ones(4))


def exact(off, adjusters, **more):
    found = lies(TARGETS, TARGETS + np.asarray(off), np.full(4, U_MM))
    return plan_turns(found, TARGETS, ZONES, adjusters, [Effect.stated(a, backlash_mm=0.0) for a in adjusters], **more)


def test_each_goes_the_way_that_is_missing():
    plan = exact([0, 0, -0.3], SIX)
    assert {t.name: round(t.turns, 6) for t in plan.turns} == {f"Foot {k}": 0.2 for k in (1, 2, 3)}
    assert plan.inside and not plan.rests and not plan.fights
    assert exact([0, 0, 0.02], SIX).rests and not exact([0, 0, 0.02], SIX).turns


def test_what_no_adjuster_moves_is_said():
    plan = exact([0.3, 0, 0.3], SIX[:5])  # none at the end
    assert plan.unmoved.shape == (6, 1)
    assert abs(plan.unmoved[0, 0]) > 0.9  # it slides along X
    assert not plan.inside
    assert plan.left_mm[:, 2] == pytest.approx(0, abs=1e-6)


def test_four_feet_are_turned_together_and_said_to_fight():
    corners = np.array([[-230.0, -130, 0], [230, -130, 0], [230, 130, 0], [-230, 130, 0]])
    four = [Adjuster(f"Foot {k}", place, Z, 1.5) for k, place in enumerate(corners, 1)]
    plan = exact([0, 0, -0.3], [*four, *SIX[3:]])
    assert set(plan.fights) == {f"Foot {k}" for k in range(1, 5)}
    assert [round(t.turns, 4) for t in plan.turns] == [0.2] * 4


def test_one_that_is_at_its_end_is_said_and_the_others_do_what_can_be_done():
    short = [replace(SIX[0], most=0.1), *SIX[1:]]
    plan = exact([0, 0, -0.3], short)
    stuck = next(t for t in plan.turns if t.name == "Foot 1")
    assert stuck.at_end and stuck.turns == pytest.approx(0.1, abs=1e-5)
    assert not plan.inside


def test_shims_come_whole():
    shims = [replace(a, mm_per_turn=0.1, step=1.0) for a in FEET]
    plan = exact([0, 0, -0.33], [*shims, *SIX[3:]])
    assert {t.turns for t in plan.turns} == {3.0}
    assert plan.left_mm[:, 2] == pytest.approx(-0.03)


def test_what_one_turn_does_is_learned_and_so_is_its_play():
    effect, adjuster = Effect.stated(SIX[0]), SIX[0]
    real_pitch, play, random = 1.62, 0.08, np.random.default_rng(3)
    way = 0
    for turns in (1.0, 0.5, -0.6, -0.2, 0.4, -0.5, 0.3):
        sign = int(np.sign(turns))
        moved = turns * real_pitch - sign * play * (way not in (0, sign))
        before = lies(TARGETS, TARGETS + random.normal(0, 0.002, TARGETS.shape), np.full(4, 0.002))
        at = TARGETS + [0, 0, moved] + random.normal(0, 0.002, TARGETS.shape)
        if way == 0:
            effect = replace(effect, last=sign)
        (effect,) = learned([effect], [adjuster], np.array([turns]), before, lies(TARGETS, at, np.full(4, 0.002)))
        way = sign
    assert effect.numbers[0] == pytest.approx(real_pitch, abs=0.01)
    assert effect.numbers[1] == pytest.approx(play, abs=0.01)


def test_one_that_is_stuck_is_not_taken_to_turn_the_other_way():
    effect, still = Effect.stated(SIX[0]), lies(TARGETS, TARGETS, np.full(4, U_MM))
    pushed = lies(TARGETS, TARGETS - [0, 0, 0.5], np.full(4, U_MM))
    for _ in range(4):
        (effect,) = learned([effect], SIX[:1], np.array([1.0]), still, pushed)
    assert effect.numbers[0] > 0
    assert np.isfinite(effect.turns_for(1.0))


def _rounds(really, count=6, wrong_at=(), pitch=1.0):
    """A detail that lies 2.2 too low on one screw; ``really``: which way it truly goes. What was asked, left and thought."""
    adjuster = replace(SIX[0], mm_per_turn=1.0)
    effect, height, told = Effect.stated(adjuster, backlash_mm=0.02), -2.2, []
    for k in range(count):
        turns = effect.turns_for(-height)
        told.append((turns, height, effect))
        done = -turns if k in wrong_at else turns
        after = height + really * pitch * done
        (effect,) = learned_each([effect], [adjuster], np.array([turns]), np.array([[0, 0, after - height]]), np.array([U_MM]))
        height = after
    return told, height, effect


def test_one_turn_the_wrong_way_is_said_and_does_not_spoil_what_is_known():
    """2.2 missing; turned the wrong way it is 4.4: that is asked for then, not four times as much, and the third is done."""
    told, height, _ = _rounds(1, wrong_at=(0,))
    assert [effect.against for *_, effect in told[:3]] == [False, True, False]
    assert told[1][0] == pytest.approx(4.4, rel=0.05)
    assert abs(height) < 0.01


def test_a_screw_that_always_goes_the_other_way_is_found_out():
    told, height, effect = _rounds(-1)
    assert effect.sense == -1 and abs(height) < 0.01
    assert max(abs(turns) for turns, *_ in told) < 10.0 and np.all(np.isfinite(effect.covariance))


@pytest.mark.parametrize("pitch", [0.3, 1.0, 4.0])
def test_a_pitch_is_looked_for_near_what_is_stated(pitch):
    told, _, _ = _rounds(1, count=8, pitch=pitch)
    assert all(0.5 <= effect.numbers[0] <= 2.0 for *_, effect in told)


def test_nothing_is_asked_for_that_no_hand_can_set():
    """A hundredth of a turn of a coarse screw is left alone."""
    coarse = [replace(a, mm_per_turn=2.0) for a in SIX]
    assert exact([0, 0, -0.03], coarse).turns == ()
    assert exact([0, 0, -0.3], coarse).turns


def test_how_far_the_turns_have_come_is_seen_at_one_target():
    """Each turn carries the target by its own share; half of the first, all of it, some of the last; and the wrong way."""
    plan = exact([0.2, 0, -0.3], SIX)
    assert plan.carries.shape == (len(plan.turns), 4, 3)
    assert plan.carries.sum(axis=0) == pytest.approx(plan.left_mm - ([0.2, 0, -0.3] + 0 * TARGETS), abs=1e-9)
    for target in range(4):
        carries = plan.carries[:, target]
        first, rest = carries[0], carries[1:].sum(axis=0)
        assert progress(carries, 0 * first) == Progress(0, 0.0, False)
        half = progress(carries, first / 2)
        assert (half.turn, half.astray) == (0, False) and half.done == pytest.approx(0.5)
        end = progress(carries, first + rest)
        assert (end.turn, end.astray) == (len(carries) - 1, False) and end.done == pytest.approx(1.0)
        assert progress(carries, -3 * (first + rest)).astray
        bent = progress(carries, 0.9 * first + 0.02)  # a pitch that is not as stated, and noise
        assert bent.turn in (0, 1) and not bent.astray
