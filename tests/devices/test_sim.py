"""The stand-in: it touches the real part, moves as a hand does, and keeps to the protocol."""

import asyncio
import json
import socket

import numpy as np
import pytest
import trimesh

from zipplumb.core.calibration import calibrate_on_sphere, pivot
from zipplumb.core.errors import FileError
from zipplumb.core.frames import Motion, points_of_poses
from zipplumb.core.spots import spots_on
from zipplumb.demo.carrier_real import BENCH, PROBES
from zipplumb.devices.protocol import Event, Hello, LevelMessage, PoseMessage, Press, Stripe, TargetMessage, decode, encode
from zipplumb.devices.sim.arm import SimulatedArm, TrueProbe, Truth
from zipplumb.devices.sim.bench import Bench
from zipplumb.devices.sim.hand import Hand
from zipplumb.devices.sim.playback import play, session_of
from zipplumb.devices.sim.real_part import RealFace
from zipplumb.devices.sim.tracker import Shop, SimulatedRadar, SimulatedTracker

RADIUS = 3.0


def plate(size=100.0, wide=None):
    """A plate at z = 0 as two triangles, facing up; square unless it is told how wide."""
    y = wide or size
    corners = np.array([[[0, 0, 0], [size, 0, 0], [size, y, 0]], [[0, 0, 0], [size, y, 0], [0, y, 0]]], float)
    return corners, np.broadcast_to([0.0, 0, 1], (2, 3, 3))


def flat(**more):
    spots, outward = spots_on(*plate())
    raw = {"index": 0, "kind": "plane", "point": [0, 0, 0], "axis": [0, 0, 1], "spots": spots, "outward": outward}
    return RealFace.from_dict(raw | more)


def bore(radius=20.0, **more):
    turn = np.linspace(0, 6, 60)
    spots = np.column_stack([radius * np.cos(turn), radius * np.sin(turn), np.linspace(0, 30, 60)])
    raw = {"index": 1, "kind": "cylinder", "point": [0, 0, 0], "axis": [0, 0, 1], "radius": radius, "inside": True}
    return RealFace.from_dict(raw | {"spots": spots, "outward": -spots} | more)


def hand(pace=4.0):
    return Hand(RADIUS, 100.0, pace, np.random.default_rng(3))


def test_spots_keep_clear_of_the_edges():
    spots, _ = spots_on(*plate())
    assert len(spots) > 100
    assert spots[:, :2].min() >= 6
    assert spots[:, :2].max() <= 94
    diagonal = np.abs(spots[:, 0] - spots[:, 1]).min()
    assert diagonal < 2  # an edge that two triangles share is none of the face's


def test_spots_of_a_narrow_wall_leave_room_for_the_ball():
    """In an inner corner the middle of a ball is at least its radius from the other wall: geometry, no standard."""
    spots, _ = spots_on(*plate(40.0, wide=12.0))
    assert len(spots) > 100
    assert spots[:, 1].min() >= 3
    assert spots[:, 1].max() <= 9


def test_spread_spots_are_far_apart(random):
    chosen = flat().spots[flat().spread(5, random)]
    gaps = np.linalg.norm(chosen[:, None] - chosen[None], axis=2) + 1e9 * np.eye(5)
    assert gaps.min() > 25


def test_the_touched_surface_is_the_real_one():
    leaning = flat(point=[0, 0, 0.5], axis=[0.001, 0, 1])
    surface, outward = leaning.touch(np.array([50.0, 50, 0]))
    assert abs((surface - [0, 0, 0.5]) @ outward) < 1e-12
    surface, outward = bore(radius=20.1).touch(np.array([20.0, 0, 5]))
    assert np.hypot(*surface[:2]) == pytest.approx(20.1)
    assert np.allclose(outward, [-1, 0, 0])


def test_a_wavy_face_waves_by_no_more_than_it_says():
    wavy = flat(wave_mm=0.02)
    heights = [wavy.touch(s)[0][2] for s in wavy.spots]
    assert 0.005 < np.ptp(heights) <= 0.02


@pytest.mark.parametrize("face", [flat(), bore()])
def test_a_hit_is_pressed_in_contact_and_come_at_from_the_air(face):
    samples = list(hand().hits(face, [face.spots[7]]))
    press = next(k for k, s in enumerate(samples) if s.press == ("take", True))
    surface, outward = face.touch(face.spots[7])
    assert np.allclose(samples[press].tip, surface + RADIUS * outward)
    heights = np.array([(s.tip - surface) @ outward for s in samples[max(0, press - 20) : press + 1]])
    assert np.all(heights >= RADIUS - 1e-9)
    assert (samples[-1].tip - surface) @ outward > RADIUS + 5


def test_a_wrong_pull_off_goes_through_the_surface():
    mover, face = hand(), flat()
    list(mover.hits(face, [face.spots[0]]))
    list(mover.go_off(face, wrong=True))
    assert mover.tip[2] < 0


def test_a_clumsy_hit_is_off_by_what_it_slipped():
    mover, face = hand(), flat()
    samples = list(mover.hits(face, [face.spots[0]], slip_mm=0.6))
    press = next(s for s in samples if s.press == ("take", True))
    assert press.tip[2] == pytest.approx(RADIUS + 0.6)


def test_a_sweep_stays_on_the_surface_while_it_is_held():
    face = bore()
    samples = list(hand().sweep(face, [face.spots[k] for k in (0, 10, 20)]))
    down = next(k for k, s in enumerate(samples) if s.press == ("take", True))
    up = next(k for k, s in enumerate(samples) if s.press == ("take", False))
    across = [np.hypot(*s.tip[:2]) for s in samples[down : up + 1]]
    assert np.allclose(across, 20 - RADIUS, atol=1e-9)


PLACE = Motion.from_quaternion([0.9, 0.1, -0.2, 0.3], [400, -120, 60])


def truth(noise_rad=8e-6):
    probes = tuple(TrueProbe(**p) for p in PROBES)
    return Truth(probes, noise_rad, 0.0, 20.6, PLACE, {0: flat()}, "abc", Bench(**BENCH))


def done(arm, *orders):
    """Everything it says while its hand does what it is told."""
    said = []
    for order in orders:
        arm._carry_out(order)
    while arm.todo:
        said += [decode(line) for line in arm.tick()]
    return said


def presses(said):
    return [m.pose for m in said if isinstance(m, Press) and m.button == "take" and m.down]


@pytest.mark.parametrize("axes", [6, 7])
def test_the_pose_comes_from_joints_and_carries_the_true_tip_with_their_noise(axes):
    arm = SimulatedArm(truth(), axes=axes)
    arm.hand.tip = PLACE.inverse().points([700.0, 100, 200])
    arm.hand.inward = PLACE.inverse().vectors([0.2, 0.1, -1.0])
    poses = [m for _ in range(400) for m in map(decode, arm.tick()) if isinstance(m, PoseMessage)]
    tips = points_of_poses(np.array([p.values for p in poses]), arm.offset)
    off = tips - [700.0, 100, 200]
    assert arm.reaches
    assert 0.002 < np.std(off) < 0.02
    assert np.abs(off.mean(axis=0)).max() < 0.002
    wrong = points_of_poses(np.array([p.values for p in poses]), arm.offset + [1.0, 0, 0])
    assert np.linalg.norm(wrong.mean(axis=0) - [700.0, 100, 200]) == pytest.approx(1, abs=0.01)


def test_an_arm_presses_nothing_where_it_cannot_reach():
    arm = SimulatedArm(truth())
    arm.hand.tip = np.array([5000.0, 0, 0])
    assert presses(done(arm, {"do": "click", "button": "take"})) == []
    assert not arm.reaches


@pytest.mark.parametrize("axes", [6, 7])
def test_every_ball_reaches_the_seat_the_sphere_and_the_bar(axes):
    for name in ("6 mm ruby ball", "25 mm steel ball", "3 mm long ball"):
        arm = SimulatedArm(truth(), pace=20, axes=axes)
        done(arm, {"do": "swap", "probe": name})
        for order, count in (({"do": "swing", "way": 2}, 1), ({"do": "bar"}, 6), ({"do": "sphere", "hits": 9}, 9)):
            assert len(presses(done(arm, order))) == count, (name, order)


def test_swings_hits_and_stripes_are_what_the_calibrations_need():
    """From its messages alone the true offset comes back; the head, put on again, seats a little differently."""
    arm = SimulatedArm(truth(), pace=4)
    done(arm, {"do": "swap", "probe": "25 mm steel ball"})
    held, poses, sweeps = False, [], []
    for m in done(arm, *({"do": "swing", "way": k} for k in range(3)), {"do": "roll"}):
        if isinstance(m, Press):
            held = m.down
        elif isinstance(m, PoseMessage) and held:
            poses.append(m.values)
            sweeps.append(1)
    found = pivot(np.array(poses), np.array(sweeps))
    assert np.linalg.norm(found.offset_mm - arm.offset) < 0.01
    assert found.verdict()[0] == "pass", found.verdict()
    done(arm, {"do": "swap", "probe": "6 mm ruby ball"})
    hits = np.array([p.values for p in presses(done(arm, {"do": "sphere", "hits": 64}))])
    touched = calibrate_on_sphere(hits, 25.4, 6.0, np.array([0, 0, 186.0]))
    assert np.linalg.norm(touched.offset_mm - arm.offset) < 0.02
    before = arm.offset
    events = [
        m.what
        for m in done(arm, {"do": "head_off"}, {"do": "head_on"}, {"do": "click", "button": "undo"})
        if isinstance(m, Event)
    ]
    assert events == ["head_off", "head_on"]
    assert 0 < np.linalg.norm(arm.offset - before) < 0.05


def test_the_scanner_draws_lines_on_the_sphere_while_its_button_is_held():
    arm = SimulatedArm(truth(), pace=3)
    done(arm, {"do": "swap", "probe": "Line scanner"})
    stripes = [m for m in done(arm, {"do": "scan"}) if isinstance(m, Stripe)]
    assert len(stripes) > 30
    mount = arm.probe.axis_from_scanner
    for stripe in stripes[::10]:
        axis = Motion.from_quaternion(stripe.pose.values[3:], stripe.pose.values[:3])
        points = (axis @ mount).points(np.array([[x, 0, z] for x, z, _ in stripe.points]))
        off = np.linalg.norm(points - BENCH["sphere"], axis=1) - BENCH["sphere_mm"] / 2
        assert np.abs(off).max() < 0.15


def test_a_place_out_of_reach_is_said_and_nothing_is_touched():
    arm = SimulatedArm(truth())
    far = [9000.0, 0.0, 0.0]
    for order in ({"do": "touch_all", "points": [far]}, {"do": "touch_at", "face": 0, "point": far}):
        with pytest.raises(ValueError, match="does not reach there"):
            arm._carry_out(order)
    assert not arm.todo


# ---- tracker and radar ------------------------------------------------------------------------


def shop(**more):
    block = trimesh.creation.box([400, 400, 400], trimesh.transformations.translation_matrix([1500, 0, 0]))
    nests = {"Nest 1": np.array([3000.0, 1500, 0]), "Nest 2": np.array([2000.0, -900, 300]), "Behind": np.array([3000.0, 0, 0])}
    stations = (Motion.identity(), Motion(np.eye(3), np.array([3000.0, -2500, 100])))
    raw = {"range_mm": 0.004, "range_per_m_mm": 0.0008, "angle_rad": 2e-6, "face_rad": 1e-5, "drift_mm_h": 0.0,
           "temperature_c": 20.0, "bar_mm": 1000.0} | more  # fmt: skip
    return Shop(stations, nests, block, **raw)


def test_the_tracker_tells_range_and_angles_as_good_as_its_class():
    tracker = SimulatedTracker(shop(face_rad=0.0), pace=20)
    done(tracker, {"do": "nest", "name": "Nest 1"})
    places = np.array([m.values[:3] for _ in range(600) for m in map(decode, tracker.tick()) if isinstance(m, PoseMessage)])
    away = np.array([3000.0, 1500, 0]) / np.hypot(3000, 1500)
    off = places - [3000.0, 1500, 0]
    assert np.std(off @ away) == pytest.approx(0.004 + 0.0008 * 3.354, rel=0.1)
    assert np.std(off[:, 2]) == pytest.approx(2e-6 * 3354, rel=0.1)


def test_two_faces_differ_a_bump_moves_it_and_levels_are_told():
    tracker = SimulatedTracker(shop(angle_rad=1e-7), pace=20)
    done(tracker, {"do": "nest", "name": "Nest 1", "take": False})
    front, back = presses(done(tracker, {"do": "faces"}))
    assert (front.face, back.face) == (1, 2)
    assert np.linalg.norm(np.subtract(front.values[:3], back.values[:3])) == pytest.approx(
        1e-5 * 3354 * np.hypot(1, 2 / 3), rel=0.3
    )
    before = presses(done(tracker, {"do": "nest", "name": "Nest 1"}))[0]
    after = presses(done(tracker, {"do": "bump"}, {"do": "nest", "name": "Nest 1"}))[0]
    assert np.linalg.norm(np.subtract(after.values[:3], before.values[:3])) > 0.05
    assert any(isinstance(decode(m), LevelMessage) for m in tracker.greeting())


def test_the_part_breaks_the_beam_and_a_search_finds_the_reflector_again():
    tracker = SimulatedTracker(shop(), pace=20)
    said = done(tracker, {"do": "nest", "name": "Behind"})
    assert [m.state for m in said if isinstance(m, TargetMessage)][-1] == "lost"
    assert presses(said) == []
    done(tracker, {"do": "nest", "name": "Nest 2", "take": False})
    said = done(tracker, {"do": "search"}, {"do": "click", "button": "take"})
    assert next(m.state for m in said if isinstance(m, TargetMessage)) == "searching"
    assert tracker.locked
    other = SimulatedTracker(shop(), pace=20)
    other._carry_out({"do": "station", "number": 1})
    assert presses(done(other, {"do": "nest", "name": "Behind"}))  # seen from the other station


def test_the_radar_sees_surfaces_the_worse_the_more_they_graze():
    radar = SimulatedRadar(shop(face_rad=0.0, angle_rad=1e-9, range_mm=0.01))
    said = done(radar, {"do": "patch", "at": [1300.0, 0, 0]})
    places = np.array([m.values[:3] for m in said if isinstance(m, PoseMessage)])
    assert len(places) > 40
    square = np.std(places[:, 0] - 1300)
    assert square < 0.03
    grazing = SimulatedRadar(shop(face_rad=0.0, angle_rad=1e-9, range_mm=0.01))
    grazing.shop.mesh.apply_translation([0, 190.0, 200.0])
    said = done(grazing, {"do": "line", "at": [1400.0, 60.0, 10.0]})
    under = [m.values for m in said if isinstance(m, PoseMessage)]
    assert len(under) > 10


def test_a_hand_aims_the_radar_at_places_where_nothing_but_one_face_is_met():
    radar = SimulatedRadar(shop())
    edge, flat = [1300.0, 197.0, 0.0], [1300.0, 100.0, 0.0]  # the beam goes past the block's edge, or stays on its front
    said = done(radar, {"do": "patches", "at": [edge, flat]})
    places = np.array([m.values[:3] for m in said if isinstance(m, PoseMessage)])
    assert len(places) >= 9
    assert np.abs(places[:, 1] - 100).max() < 10
    with pytest.raises(ValueError, match="nothing of that is seen"):
        radar.told("patches", {"do": "patches", "at": [edge]})


def test_a_hand_that_hears_no_tone_stays_on_the_surface_until_the_link_is_back():
    arm = SimulatedArm(truth(), pace=4)
    arm._carry_out({"do": "sweep", "face": 0})
    while not arm.following:
        arm.tick()
    arm.served = True  # it had a link, which is gone
    lost_at = arm.hand.tip
    for _ in range(50):
        arm.tick()
    assert (arm.hand.tip == lost_at).all()
    assert arm.down
    arm.link = object()
    assert isinstance([m for m in done(arm) if isinstance(m, Press)][-1], Press)
    assert not arm.down


def test_the_radar_looks_by_itself_where_the_link_asks_and_says_where_it_cannot():
    radar = SimulatedRadar(shop(face_rad=0.0, angle_rad=1e-9, range_mm=0.01))
    ask = {"t": "look", "o": 4, "shape": "patch", "at": [1300.0, 0, 0], "side_mm": 60.0, "points": 49}
    assert radar.look(ask) == ""
    said = done(radar)
    taken = [m for m in said if isinstance(m, Press)]
    assert [(p.down, p.look) for p in taken] == [(True, 4), (False, 4)]
    places = np.array([m.values[:3] for m in said if isinstance(m, PoseMessage)])[:49]
    assert np.abs(places[:, 0] - 1300).max() < 0.08
    assert np.ptp(places[:, 1:], axis=0) == pytest.approx([60.0, 60.0], abs=0.5)
    assert radar.look({**ask, "at": [0.0, 1300.0, 0.0]}) == "nothing is seen there"
    assert radar.look({**ask, "at": [float("nan"), 0, 0]}) == "there is no such place"
    assert radar.look({**ask, "shape": "line", "at": [1300.0, -80, 0], "to": [1300.0, 80, 0], "points": 20}) == ""
    line = np.array([m.values[:3] for m in done(radar) if isinstance(m, PoseMessage)])[:20]
    assert np.diff(line[:, 1]) == pytest.approx(160 / 19, abs=0.05)
    assert SimulatedTracker(shop()).look(ask)  # a tracker is led by hand


# ---- playback ---------------------------------------------------------------------------------


def test_a_recorded_session_plays_back_as_it_was(tmp_path):
    arm, file = SimulatedArm(truth()), tmp_path / "session.jsonl"
    lines = [encode(t="hello", protocol=2, session="s", kind="arm", model="m", serial="1", rate_hz=100, axes=7)]
    arm._carry_out({"do": "click", "button": "take"})
    for _ in range(20):
        lines += arm.tick()
    file.write_bytes(b"".join(lines))

    async def run():
        with socket.create_server(("127.0.0.1", 0)) as free:
            port = free.getsockname()[1]
        playing = asyncio.create_task(play(file, port, pace=50))
        await asyncio.sleep(0.2)
        reader, writer = await asyncio.open_connection("127.0.0.1", port)
        heard = [await asyncio.wait_for(reader.readline(), 5) for _ in lines]
        writer.close()
        playing.cancel()
        return heard

    heard = asyncio.run(run())
    assert heard[1:] == lines[1:]
    assert decode(heard[0]).session != "s"  # what is played is new, not sent again
    file.write_text("no session\n")
    with pytest.raises(FileError, match="no recorded session"):
        session_of(file)


async def _lines(reader, count):
    return [decode(await asyncio.wait_for(reader.readline(), 5)) for _ in range(count)]


def test_an_unanswered_press_is_sent_again_and_an_answered_one_is_not():
    async def run():
        arm = SimulatedArm(truth(), rate_hz=500)
        server = await asyncio.start_server(arm.serve_link, "127.0.0.1", 0)
        port = server.sockets[0].getsockname()[1]
        streaming = asyncio.create_task(arm.stream())
        try:
            arm.todo.append(arm.hand.press("take"))
            reader, writer = await asyncio.open_connection("127.0.0.1", port)
            messages = await _lines(reader, 20)
            assert isinstance(messages[0], Hello)
            press = next(m for m in messages if isinstance(m, Press))
            writer.close()
            reader, writer = await asyncio.open_connection("127.0.0.1", port)
            again = await _lines(reader, 3)
            assert again[2] == press  # hello, state, and what was not answered
            writer.write((json.dumps({"t": "done", "e": press.number, "tone": "taken"}) + "\n").encode())
            await asyncio.sleep(0.1)
            assert arm.unanswered == {}
            writer.close()
        finally:
            streaming.cancel()
            server.close()

    asyncio.run(run())


def test_orders_that_make_no_sense_are_refused_in_words():
    async def run():
        arm = SimulatedArm(truth())
        server = await asyncio.start_server(arm.serve_control, "127.0.0.1", 0)
        reader, writer = await asyncio.open_connection("127.0.0.1", server.sockets[0].getsockname()[1])
        answers = []
        for order in (
            {"do": "touch", "face": 99},
            {"do": "dance"},
            {},
            {"do": "touch", "face": 0, "hits": 3},
            {"do": "unplug"},
        ):
            writer.write((json.dumps(order) + "\n").encode())
            answers.append(json.loads(await reader.readline()))
        writer.close()
        server.close()
        assert [a["ok"] for a in answers] == [False, False, False, True, True]
        assert "cannot do that" in answers[0]["why"]
        assert answers[4]["plugged"] is False

    asyncio.run(run())
