import base64
import json
from contextlib import suppress

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from zipplumb.core.errors import DeviceError
from zipplumb.core.stripes import is_light, unpacked
from zipplumb.devices.hits import HitMaker
from zipplumb.devices.protocol import (
    Event,
    Hello,
    LevelMessage,
    Look,
    PoseMessage,
    Press,
    State,
    Stripe,
    TargetMessage,
    decode,
    encode,
)

POSE = {"n": 5, "at": 1000.0, "p": [1.0, 2.0, 3.0], "q": [1.0, 0.0, 0.0, 0.0]}


def test_every_kind_of_message_comes_through():
    assert isinstance(decode(encode(t="pose", **POSE)), PoseMessage)
    press = decode(encode(t="button", e=3, name="take", down=True, **POSE))
    assert isinstance(press, Press)
    assert press.pose.values == (1, 2, 3, 1, 0, 0, 0)
    assert decode(encode(t="state", temperature_c=20.5)) == State(temperature_c=20.5)
    hello = {"t": "hello", "protocol": 2, "session": "s", "kind": "arm", "model": "m", "serial": "1", "rate_hz": 100}
    assert isinstance(decode(encode(**hello)), Hello)


def test_ranges_and_angles_lines_levels_targets_and_events_come_through():
    """Closed form: a range of 1000 at 90° and 30° is (0, 866.025, 500)."""
    sight = {"n": 5, "at": 1000.0, "r": 1000.0, "az": np.pi / 2, "el": np.pi / 6, "face": 2}
    seen = decode(encode(t="pose", **sight))
    assert seen.values == pytest.approx((0, 866.0254, 500, 1, 0, 0, 0), abs=1e-4)
    assert seen.face == 2
    stripe = decode(encode(t="stripe", **POSE, points=[[1.0, 90.0], [2.0, 91.0]]))
    assert isinstance(stripe, Stripe) and stripe.pose == PoseMessage(5, 1000.0, (1, 2, 3, 1, 0, 0, 0))
    np.testing.assert_array_equal(stripe.points, [[1, 90, np.nan], [2, 91, np.nan]])
    assert decode(encode(t="level", up=[0, 0, 1], u_rad=1e-6)) == LevelMessage(up=(0, 0, 1), u_rad=1e-6)
    assert decode(encode(t="target", state="lost")) == TargetMessage(state="lost")
    assert decode(encode(t="event", what="knock")) == Event(what="knock")
    for bad in (
        {**sight, "r": -1.0}, {**sight, "el": 2.0}, {**sight, "face": 3}, {"t": "level", "up": [0, 0, 0], "u_rad": 0},
        {"t": "target", "state": "bored"}, {"t": "event", "what": "party"}, {"t": "stripe", **POSE, "points": [[1.0]]},
    ):  # fmt: skip
        with pytest.raises(DeviceError):
            decode(encode(**({"t": "pose"} | bad)))


@pytest.mark.parametrize(
    "good",
    [
        {"q": [0.71, 0.0, 0.7, 0.0]}, {"p": [1, 2, 3], "q": [1, 0, 0, 0], "at": 1000}, {"n": 2**52}, {"a word of later": 1},
        {"p": None, "q": None, "r": 1500.0, "az": 0.0, "el": 1.5708}, {"p": None, "q": None, "r": 5, "az": -6.2832, "el": 0},
    ],
)  # fmt: skip
def test_what_another_program_may_send_is_let_through(good):
    """Numbers rounded, whole, or as large as they may be; no decimals where there are none; words of a later version."""
    message = {"t": "pose", **POSE, **good}
    assert isinstance(decode(encode(**{k: v for k, v in message.items() if v is not None})), PoseMessage)


def test_a_scanners_lines_are_kept_while_the_button_is_held():
    maker = HitMaker("s")
    stripe = decode(encode(t="stripe", **POSE, points=[[1.0, 90.0], [2.0, 91.0]]))
    maker.scanned(stripe)
    assert maker.flush() == []
    maker.press(stripe.pose)
    maker.scanned(stripe)
    (batch,) = maker.release()
    assert (batch.kind, batch.counts) == ("stripes", (2,))
    np.testing.assert_array_equal(unpacked(batch.points, batch.counts)[0], stripe.points)


def test_how_far_what_the_light_meets_is_told_while_the_button_is_held():
    maker, pose = HitMaker("s"), {**POSE, "n": 6}
    line = decode(encode(t="stripe", **pose, points=[[1.0, 90.0], [2.0, 91.0], [3.0, 140.0]]))
    maker.scanned(line)
    assert maker.away_mm(1000.0) is None  # the button is up
    maker.press(line.pose)
    assert np.isnan(maker.away_mm(1000.0))
    maker.scanned(line)
    assert maker.away_mm(1000.1) == 91.0
    assert np.isnan(maker.away_mm(1000.5))  # no line came since
    maker.release()
    assert maker.away_mm(1000.1) is None
    maker.press(decode(encode(t="pose", **{**POSE, "n": 9})))
    assert np.isnan(maker.away_mm(1000.1))  # that line was of the pass before


def as_packed(points):
    return base64.b64encode(np.asarray(points, "<f4").tobytes()).decode()


def test_a_packed_line_keeps_its_order_its_gaps_and_its_brightness():
    points = np.array([[1, 90, 0.5], [2, 91, 1], [np.nan] * 3, [4, 93, np.nan], [5, 94, 0]], np.float32)
    stripe = decode(encode(t="stripe", **POSE, packed=as_packed(points)))
    np.testing.assert_array_equal(stripe.points, points)
    np.testing.assert_array_equal(is_light(stripe.points), [True, True, False, True, True])
    none = decode(encode(t="stripe", **POSE, packed=""))  # the light met nothing
    assert none.points.shape == (0, 3)
    maker = HitMaker("s")
    maker.press(stripe.pose)
    maker.scanned(none)
    maker.scanned(decode(encode(t="stripe", **POSE, packed=as_packed([[np.nan] * 3] * 5))))
    assert maker.release() == []  # lines without light are nothing to keep


@pytest.mark.parametrize(
    ("packed", "why"),
    [
        ("!!", "not base64"), ("AAAA", "whole points"), (as_packed([[np.nan, 90, 0.5]]), "within a kilometre"),
        (as_packed([[1, np.inf, 0.5]]), "within a kilometre"), (as_packed([[1e7, 0, 0]]), "within a kilometre"),
        (as_packed([[1, 90, 2]]), "from 0 to 1"), (as_packed([[1, 90, 0]] * 4097), "at most 65536"),
    ],
)  # fmt: skip
def test_a_packed_line_that_is_none_is_named(packed, why):
    with pytest.raises(DeviceError, match=f"stripe does not fit.*{why}"):
        decode(encode(t="stripe", **POSE, packed=packed))


def test_points_told_twice_are_refused():
    with pytest.raises(DeviceError, match="told twice"):
        decode(encode(t="stripe", **POSE, points=[[1, 90]], packed=as_packed([[1, 90, 0]])))


def test_a_long_wait_is_handed_over_in_chunks_of_a_mebibyte_with_every_line_in_order():
    maker = HitMaker("s")
    poses = [decode(encode(t="pose", **{**POSE, "n": n})) for n in range(500)]
    maker.press(poses[0])
    line = np.full((512, 3), 0.5, np.float32)
    for pose in poses[1:]:
        maker.scanned(Stripe(pose, line))
    batches = maker.release()
    assert len(batches) == 3
    assert max(len(batch.points) for batch in batches) <= 2**20
    assert [n for batch in batches for n in batch.ns] == list(range(1, 500))
    assert sum(sum(batch.counts) for batch in batches) == 499 * 512


@pytest.mark.parametrize(
    "line",
    [
        b"",
        b"not json",
        b"[]",
        b'{"t":"pose"}',
        b'{"t":"dance"}',
        json.dumps({"t": "pose", **POSE, "p": [float("nan"), 0, 0]}).encode(),
        json.dumps({"t": "pose", **POSE, "p": [float("inf"), 0, 0]}).encode(),
        json.dumps({"t": "pose", **POSE, "p": [0, 0]}).encode(),
        json.dumps({"t": "pose", **POSE, "q": [0, 0, 0, 0]}).encode(),
        json.dumps({"t": "button", "e": 1, "name": "launch", "down": True, **POSE}).encode(),
        json.dumps(
            {"t": "hello", "protocol": 1, "session": "s", "kind": "arm", "model": "", "serial": "", "rate_hz": 1}
        ).encode(),
        b"[" * 100_000,
    ],
)
def test_what_is_no_reading_is_refused_in_words(line):
    with pytest.raises(DeviceError):
        decode(line)


@given(st.binary(max_size=200))
def test_no_bytes_do_more_than_be_refused(line):
    with suppress(DeviceError):
        decode(line)


def pose(n, x, z=0.0):
    return PoseMessage(n, n / 100, (x, 0.0, z, 1.0, 0.0, 0.0, 0.0))


def test_a_press_is_one_hit_with_its_way_in():
    maker = HitMaker("s")
    for n in range(20):
        maker.seen(pose(n, 0, 20 - n))
    batch = maker.press(pose(20, 0, 0))
    assert batch.ns == (20,)
    assert batch.approach[2] == 6.0  # the latest place that was clear of the hit


def test_held_hits_come_by_distance_and_belong_to_one_sweep():
    maker = HitMaker("s")
    maker.taking.step_mm = 5.0
    maker.press(pose(0, 0))
    for n in range(1, 101):
        maker.seen(pose(n, 0.4 * n))
    (batch,) = maker.release()
    steps = np.diff(np.reshape(batch.poses, (-1, 7))[:, 0])
    assert len(batch.ns) == 7
    assert np.all(steps >= 5.0)
    assert batch.sweep == 0
    maker.seen(pose(102, 500))
    assert maker.flush() == []  # nothing more once the button is let go


# ---- looks ------------------------------------------------------------------------------------


def test_a_look_is_asked_in_the_words_of_the_protocol_and_answered():
    patch = json.loads(Look((1.0, 2.0, 3.0), None, 30.0, 49).message(7))
    assert patch == {"t": "look", "o": 7, "at": [1.0, 2.0, 3.0], "points": 49, "shape": "patch", "side_mm": 30.0}
    line = json.loads(Look((1.0, 2.0, 3.0), (9.0, 2.0, 3.0), 30.0, 20).message(8))
    assert (line["shape"], line["to"]) == ("line", [9.0, 2.0, 3.0])
    assert "side_mm" not in line
    answer = decode(encode(t="answer", o=7, ok=False, why="nothing is seen there"))
    assert (answer.o, answer.ok, answer.why) == (7, False, "nothing is seen there")
    for bad in ({"o": -1, "ok": True}, {"o": 1, "ok": "yes"}, {"o": 1, "ok": True, "why": "x" * 201}, {"ok": True}):
        with pytest.raises(DeviceError):
            decode(encode(t="answer", **bad))


def test_every_place_of_a_look_is_a_hit_however_near_to_the_last_and_its_way_in_is_the_beams():
    maker = HitMaker("s", beam=True)
    at = np.array([[2000.0, y, 0.0] for y in (0.0, 0.5, 1.0, 1.5)])
    poses = [PoseMessage(n, n / 100, (*place, 1.0, 0.0, 0.0, 0.0)) for n, place in enumerate(at)]
    first = maker.press(poses[0], every=True)
    for each in poses:  # the stream tells the first once more
        maker.seen(each)
    (rest,) = maker.release()
    assert (first.ns, rest.ns) == ((0,), (1, 2, 3))
    ways = np.vstack([np.reshape(b.approach, (-1, 7))[:, :3] for b in (first, rest)])
    assert np.linalg.norm(ways - at, axis=1) == pytest.approx(30.0)  # on the beam, before what it meets
    assert np.cross(ways, at) == pytest.approx(0, abs=1e-6)
    elsewhere = PoseMessage(9, 1.0, (0.0, 5000.0, 0.0, 1.0, 0.0, 0.0, 0.0))
    away = np.reshape(maker.pull_off(elsewhere).poses, 7)[:3]
    assert away == pytest.approx(ways[-1])  # and out of it, wherever it looks by now
