"""The agent against a device that misbehaves."""

import json
import socket
import threading
import time

import pytest

from zipplumb.core.errors import DeviceError, InputError
from zipplumb.core.probing import ByDistance
from zipplumb.devices import agent
from zipplumb.devices.agent import Agent
from zipplumb.devices.protocol import Look, encode

AGENTS: list[Agent] = []
HELLO = encode(t="hello", protocol=2, session="s1", kind="arm", model="m", serial="1", rate_hz=100)


def a_pose(n):
    return {"n": n, "at": 1.0 + n, "p": [float(n), 0, 0], "q": [1.0, 0, 0, 0]}


def a_press(number, name="take", down=True):
    return encode(t="button", e=number, name=name, down=down, **a_pose(number))


class Sink:
    """Keeps in memory; fails as often as it is told to."""

    def __init__(self):
        self.kept, self.said, self.failures, self.refuse, self.counts = [], [], 0, False, []

    def connected(self, hello):
        self.said.append("connected")

    def lost(self, why):
        self.said.append(why)

    def trouble(self, words):
        self.said.append(words)

    def state(self, state): ...

    def alive(self): ...

    def passes(self, error):
        return isinstance(error, ConnectionError)

    def tip(self, pose, away_mm): ...

    def settings(self):
        return [0.0, 0.0, 0.0], ByDistance(5.0)

    def event(self, event):
        self.said.append(event.what)

    def target(self, target):
        self.said.append(target.state)

    def level(self, level): ...

    def keep(self, batch, number):
        if self.failures:
            self.failures -= 1
            raise ConnectionError("the database is away")
        if self.refuse:
            raise InputError("No row to measure is current.")
        self.kept.append(batch.ns[0])
        self.counts.append(len(batch.ns))
        return "taken"

    def finish(self, batch, number):
        self.kept.append("finish")
        return "finished"

    undo = step = finish


@pytest.fixture
def device():
    server = socket.create_server(("127.0.0.1", 0))
    server.settimeout(5)
    sink = Sink()
    listener = Agent("127.0.0.1", server.getsockname()[1], sink)
    threading.Thread(target=listener.run, daemon=True).start()
    AGENTS.append(listener)
    yield server, sink
    listener.stop.set()
    server.close()


def answers(connection, count):
    connection.settimeout(5)
    lines = connection.makefile("rb")
    return [json.loads(lines.readline()) for _ in range(count)]


def until(true, seconds=5.0):
    end = time.monotonic() + seconds
    while not true() and time.monotonic() < end:
        time.sleep(0.01)
    assert true()


def test_a_press_is_answered_only_after_it_is_kept(device):
    server, sink = device
    sink.failures = 2
    connection, _ = server.accept()
    connection.sendall(HELLO + a_press(7))
    assert answers(connection, 1) == [{"t": "done", "e": 7, "tone": "taken"}]
    assert sink.kept == [7]


def test_a_refused_press_is_said_and_answered(device):
    server, sink = device
    sink.refuse = True
    connection, _ = server.accept()
    connection.sendall(HELLO + a_press(3))
    assert answers(connection, 1)[0]["tone"] == "refused"
    until(lambda: any("No row" in words for words in sink.said))


def test_nonsense_is_said_and_the_stream_goes_on(device):
    server, sink = device
    connection, _ = server.accept()
    connection.sendall(HELLO + b'{"t":"pose","n":1,"at":1,"p":[NaN,0,0],"q":[1,0,0,0]}\n' + a_press(9))
    assert answers(connection, 1)[0]["e"] == 9
    assert any("not a number" in words for words in sink.said)


def test_a_lost_device_is_said_and_found_again(device):
    server, sink = device
    connection, _ = server.accept()
    connection.sendall(HELLO)
    until(lambda: "connected" in sink.said)
    connection.close()
    again, _ = server.accept()
    again.sendall(HELLO + a_press(2))
    assert answers(again, 1)[0]["e"] == 2
    assert any("ended the connection" in words for words in sink.said)


def test_a_silent_device_is_said(device):
    server, sink = device
    connection, _ = server.accept()
    connection.sendall(HELLO)
    until(lambda: any("silent" in words for words in sink.said))


def test_an_instrument_that_the_sink_refuses_keeps_nothing(device):
    server, sink = device

    def refuse(hello):
        raise DeviceError("What answers there is of another kind.")

    sink.connected = refuse
    connection, _ = server.accept()
    connection.sendall(HELLO + a_press(5))
    until(lambda: any("another kind" in words for words in sink.said))
    assert sink.kept == []


def test_levels_targets_and_events_are_handed_on_and_stripes_while_the_button_is_held(device):
    server, sink = device
    connection, _ = server.accept()
    stripe = encode(t="stripe", **a_pose(8), points=[[0.0, 90.0], [1.0, 90.5]])
    connection.sendall(HELLO + encode(t="event", what="knock") + encode(t="target", state="lost") + stripe)
    connection.sendall(encode(t="level", up=[0, 0, 1], u_rad=1e-6) + a_press(6) + stripe + a_press(7, down=False))
    assert [a["e"] for a in answers(connection, 2)] == [6, 7]
    until(lambda: {"knock", "lost"} <= set(sink.said))
    assert sink.kept == [6, 8]  # the press, and the one line that came while it was held


def test_a_link_that_is_lost_again_and_again_is_said_each_time(device):
    server, sink = device
    for _ in range(2):
        connection, _ = server.accept()
        connection.sendall(HELLO)
        until(lambda: sink.said and sink.said[-1] == "connected")
        connection.close()
        until(lambda: "ended the connection" in sink.said[-1])


def test_a_sweep_goes_on_behind_a_lost_link_and_says_its_gap(device):
    """The button is held throughout; four samples (spaced 1 s by the device's clock) are never heard."""
    server, sink = device
    batches = []
    sink.keep = lambda batch, number: batches.append(batch) or "taken"
    connection, _ = server.accept()
    far = [encode(t="pose", **a_pose(10 * n)) for n in range(1, 4)]
    connection.sendall(HELLO + a_press(1) + b"".join(far))
    answers(connection, 1)
    connection.close()
    connection, _ = server.accept()
    connection.sendall(HELLO + b"".join(encode(t="pose", **a_pose(10 * n)) for n in range(8, 10)) + a_press(95, down=False))
    answers(connection, 1)
    connection.close()
    until(lambda: sum(len(b.ns) for b in batches) == 6)
    assert [n for b in batches for n in b.ns] == [1, 10, 20, 30, 80, 90]
    assert {b.sweep for b in batches} == {1}
    assert [b.gap_s for b in batches if b.gap_s] == [50.0]


HOSTILE = {
    "a number beyond a float": b'{"t":"pose","n":1e400,"at":1,"p":[0,0,0],"q":[1,0,0,0]}',
    "a number of 5,000 digits": b'{"t":"pose","n":' + b"9" * 5000 + b',"at":1,"p":[0,0,0],"q":[1,0,0,0]}',
    "beyond a bigint": b'{"t":"button","e":9223372036854775808,"name":"take","down":true,"n":1,"at":1,"p":[0,0,0],'
    b'"q":[1,0,0,0]}',
    "a time in milliseconds": b'{"t":"pose","n":1,"at":1.7e12,"p":[0,0,0],"q":[1,0,0,0]}',
    "a word for yes or no": b'{"t":"button","e":1,"name":"take","down":"false","n":1,"at":1,"p":[0,0,0],"q":[1,0,0,0]}',
    "no UTF-8": b'{"t":"event","what":"\xff"}',
    "nothing but brackets": b"[" * 200_000,
    "a turn that is none": b'{"t":"pose","n":1,"at":1,"p":[0,0,0],"q":[2,0,0,0]}',
    "a place beyond a kilometre": b'{"t":"pose","n":1,"at":1,"p":[1e300,0,0],"q":[1,0,0,0]}',
}


@pytest.mark.parametrize("name", HOSTILE)
def test_what_does_not_fit_is_named_and_the_stream_goes_on(device, name):
    server, sink = device
    connection, _ = server.accept()
    connection.sendall(HELLO + HOSTILE[name] + b"\n" + a_press(4))
    assert answers(connection, 1)[0]["e"] == 4
    until(lambda: any("not fit" in w or "no message" in w for w in sink.said))


@pytest.mark.parametrize("session", ["", "x" * 41, "a\u0000b", "a\nb"])
def test_who_does_not_say_who_it_is_is_asked_again(device, session):
    server, sink = device
    for _ in range(2):  # its thread lives on
        connection, _ = server.accept()
        hello = {"t": "hello", "protocol": 2, "session": session, "kind": "arm", "model": "", "serial": "", "rate_hz": 1}
        connection.sendall(encode(**hello) + a_press(1))
        assert connection.recv(1) == b""
    assert sink.kept == []


def test_a_line_of_4096_points_is_read_whole_and_one_without_an_end_is_cut_off(device):
    server, sink = device
    batches = []
    sink.keep = lambda batch, number: batches.append(batch) or "taken"
    connection, _ = server.accept()
    points = [[k * 0.0123456789, 90.0123456789] for k in range(4096)]
    stripe = encode(t="stripe", **a_pose(2), points=points)
    assert len(stripe) > 65536
    connection.sendall(HELLO + a_press(1) + stripe + a_press(3, down=False))
    until(lambda: len(batches) == 2)
    assert batches[1].counts == (4096,)
    connection.sendall(b"x" * 600_000)
    until(lambda: any("without an end" in words for words in sink.said))


def test_one_that_sends_nothing_but_faults_is_left_alone_for_a_while(device):
    server, sink = device
    connection, _ = server.accept()
    connection.sendall(HELLO + b"nonsense\n" * 5000)
    until(lambda: any("nothing but faults" in words for words in sink.said))
    assert len(sink.said) < 5  # a sentence a second, not one for each


def test_a_press_that_can_never_be_kept_is_refused_and_blocks_nothing(device):
    server, sink = device
    connection, _ = server.accept()

    def keep(batch, number):
        if number == 1:
            raise ValueError("the database will not have it")
        return "taken"

    sink.keep = keep
    connection.sendall(HELLO + a_press(1) + a_press(2))
    assert [a["tone"] for a in answers(connection, 2)] == ["refused", "taken"]
    until(lambda: any("could not be kept" in words for words in sink.said))


def test_a_press_that_comes_again_and_again_is_answered_from_memory(device):
    server, sink = device
    connection, _ = server.accept()
    connection.sendall(HELLO + a_press(7) * 200)
    assert {(a["e"], a["tone"]) for a in answers(connection, 200)} == {(7, "taken")}
    assert sink.kept == [7]


def test_trouble_is_said_no_more_when_it_is_over(device, monkeypatch):
    server, sink = device
    monkeypatch.setattr(agent, "CALM_S", 0.3)
    connection, _ = server.accept()
    connection.sendall(HELLO + b"nonsense\n")
    until(lambda: any("no message" in words for words in sink.said))
    for n in range(1, 40):  # it goes on talking, and well
        connection.sendall(encode(t="pose", **a_pose(n)))
        time.sleep(0.05)
    until(lambda: sink.said[-1] == "")


def test_a_session_played_again_is_asked_about_again(device):
    server, sink = device
    for _ in range(2):
        connection, _ = server.accept()
        connection.sendall(HELLO + a_press(7))
        answers(connection, 1)
        connection.close()
    assert sink.kept == [7, 7]  # the sink knows what it had, and for which place


# ---- asked to look ----------------------------------------------------------------------------


def test_a_look_is_passed_on_and_what_is_refused_or_never_answered_is_said(device, monkeypatch):
    monkeypatch.setattr(agent, "ANSWER_S", 0.3)
    server, sink = device
    connection, _ = server.accept()
    connection.sendall(HELLO)
    until(lambda: "connected" in sink.said)
    listener = next(each for each in AGENTS if each.sink is sink)
    listener.ask(Look((1000.0, 0.0, 0.0), None, 30.0, 49))
    (asked,) = answers(connection, 1)
    assert (asked["t"], asked["o"], asked["points"]) == ("look", 1, 49)
    connection.sendall(encode(t="answer", o=1, ok=False, why="nothing is seen there"))
    until(lambda: any("nothing is seen there. Nothing was read" in words for words in sink.said))
    listener.ask(Look((1000.0, 0.0, 0.0), None, 30.0, 49))
    assert answers(connection, 1)[0]["o"] == 2
    until(lambda: agent.NO_ANSWER in sink.said)
    connection.sendall(encode(t="answer", o=2, ok=True))
    connection.close()
    until(lambda: any("ended the connection" in words for words in sink.said))
    server.close()
    listener.ask(Look((1000.0, 0.0, 0.0), None, 30.0, 49))
    until(lambda: any("not there to be asked" in words for words in sink.said))


def test_what_comes_for_a_look_is_kept_point_by_point(device):
    server, sink = device
    connection, _ = server.accept()
    places = [{"n": n, "at": 1.0 + n / 100, "p": [1000.0, n / 10, 0], "q": [1.0, 0, 0, 0]} for n in range(6)]
    lines = [encode(t="button", e=1, name="take", down=True, look=1, **places[0])]
    lines += [encode(t="pose", **place) for place in places]
    connection.sendall(HELLO + b"".join(lines) + encode(t="button", e=2, name="take", down=False, **places[-1]))
    answers(connection, 2)
    assert sum(sink.counts) == 6


def test_two_presses_at_one_sample_are_not_both_kept(device):
    """The first is; the other is refused, and says so: a tone for it would lie."""
    server, sink = device
    connection, _ = server.accept()
    other = encode(t="button", e=8, name="take", down=True, **(a_pose(7) | {"p": [500.0, 0, 0]}))
    connection.sendall(HELLO + a_press(7) + other + a_press(7) + a_press(9))
    tones = {answer["e"]: answer["tone"] for answer in answers(connection, 4)}
    assert tones == {7: "taken", 8: "refused", 9: "taken"}
    assert sink.kept == [7, 9] and any("twice at its sample 7" in words for words in sink.said)


@pytest.mark.parametrize(("kind", "wrong"), [("arm", {"r": 1000.0, "az": 0.1, "el": 0.0}), ("tracker", a_pose(1))])
def test_a_place_that_its_kind_does_not_tell_is_refused(device, kind, wrong):
    server, sink = device
    connection, _ = server.accept()
    right = a_pose(2) if kind == "arm" else {"n": 2, "at": 3.0, "r": 1000.0, "az": 0.1, "el": 0.0}
    hello = encode(t="hello", protocol=2, session="s1", kind=kind, model="m", serial="1", rate_hz=100)
    pressed = encode(t="button", e=1, name="take", down=True, **({"n": 1, "at": 2.0} | wrong))
    connection.sendall(hello + pressed + encode(t="button", e=2, name="take", down=True, **right))
    assert answers(connection, 1)[0] == {"t": "done", "e": 2, "tone": "taken"}
    assert sink.kept == [2] and any("as its kind does not" in words for words in sink.said)


def test_a_press_while_the_button_is_held_leaves_the_old_sweep_its_hits(device):
    """Whose button came up unheard."""
    server, sink = device
    connection, _ = server.accept()
    path = b"".join(encode(t="pose", **(a_pose(n) | {"p": [10.0 * n, 0, 0]})) for n in range(2, 6))
    connection.sendall(HELLO + a_press(1) + path + a_press(9))
    assert {answer["e"] for answer in answers(connection, 2)} == {1, 9}
    assert sink.kept[0] == 1 and sink.kept[-1] == 9 and sum(sink.counts[1:-1]) == 4


def test_lines_of_a_scanner_are_handed_over_without_poses_between(device):
    server, sink = device
    connection, _ = server.accept()
    connection.sendall(HELLO + a_press(1))
    lines = (encode(t="stripe", points=[[0.0, 100.0]] * 50, **a_pose(n)) for n in range(2, 400))
    for line in lines:
        connection.sendall(line)
        time.sleep(0.001)  # as a scanner sends them, not all at once
    until(lambda: sum(sink.counts) > 200)
