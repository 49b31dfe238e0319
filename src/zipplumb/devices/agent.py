"""The agent: keeps one instrument connected and hands over what it says, safely.

One thread reads, another hands over. A press is answered ("done", with a tone) only after
the sink has committed it; the instrument sends unanswered presses again after a lost link,
so none is lost, and the sink knows their numbers, so none is doubled.
"""

from __future__ import annotations

import logging
import queue
import socket
import threading
import time
from collections import OrderedDict, deque
from collections.abc import Callable, Iterable
from contextlib import suppress
from dataclasses import dataclass, field
from functools import partial
from typing import NoReturn, Protocol

import numpy as np

from ..core.errors import DeviceError, PlumbError
from ..core.probing import Taking
from .hits import HitBatch, HitMaker
from .protocol import (
    LINE_BYTES,
    SEE_SURFACES,
    TELL_RANGES,
    AnswerMessage,
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
)  # fmt: skip

log = logging.getLogger(__name__)
SILENCE_S = 1.0
RETRY_S, LONGEST_RETRY_S = 0.3, 2.0
FLUSH_S = 0.08
TIP_S = 1 / 100  # what is sent on, less often, is then never old
ALIVE_S = 1.0
ANSWER_S = 3.0  # by then it says whether it will look
NO_ANSWER = "The instrument did not answer what it was asked to look at. Nothing was read. Ask again, or aim it by hand."
NOT_KEPT = "What the instrument sent could not be kept. Earlier hits are. Take it again."
CALM_S = 10.0  # without trouble, and it is said no more
ANSWERED = 1000  # presses that are known again without asking
PRESSES_PER_S, PRESSES_AT_ONCE = 15.0, 60.0  # more than any hand; what comes faster waits, so that others do not
NONSENSE = 50  # messages in a second that are none: it is left alone for a while


def _refuse(error: PlumbError) -> NoReturn:
    raise error


class Sink(Protocol):
    """Where readings go. Every call commits before it returns; it raises on failure."""

    def connected(self, hello: Hello) -> None: ...
    def alive(self) -> None:
        """It has said something within the last second."""
        ...

    def lost(self, why: str) -> None: ...
    def trouble(self, words: str) -> None: ...
    def state(self, state: State) -> None: ...
    def tip(self, pose: PoseMessage, away_mm: float | None) -> None:
        """``away_mm``: how far what a scanner's light meets is: see ``HitMaker.away_mm``."""
        ...

    def level(self, level: LevelMessage) -> None: ...
    def target(self, target: TargetMessage) -> None: ...
    def event(self, event: Event) -> None: ...
    def settings(self) -> tuple[list[float], Taking]:
        """Tip offset (mm) and the way of taking while the button is held."""
        ...

    def keep(self, batch: HitBatch, number: int | None) -> str:
        """Keep hits; the tone to sound."""
        ...

    def finish(self, batch: HitBatch, number: int) -> str: ...
    def undo(self, sweep: bool, session: str, number: int) -> str: ...
    def step(self, by: int, session: str, number: int) -> str: ...
    def next_way(self, session: str, number: int) -> str:
        """Another way of taking while the button is held."""
        ...

    def just_touch(self, session: str, number: int) -> str:
        """Hits go to what they fit from now on, or to the sheet's rows again."""
        ...

    def passes(self, error: Exception) -> bool:
        """A failure that passes by itself (the database is away), so that the act is tried again."""
        ...


@dataclass
class _Act:
    """Something to be committed, and the press to answer when it is."""

    carry_out: Callable[[], str | None]
    press: tuple[str, int] | None  # the session and its number
    reply: Callable[[bytes], None] = field(repr=False)


class Agent:
    """Runs until ``stop`` is set."""

    def __init__(self, host: str, port: int, sink: Sink):
        self.host, self.port, self.sink = host, port, sink
        self.stop = threading.Event()
        self._acts: queue.Queue[_Act] = queue.Queue()
        self._latest: PoseMessage | None = None
        self._newest: dict[type, Callable[[], None]] = {}
        self._news = threading.Event()  # something to publish came
        self._heard_at = 0.0
        self._greeted = False
        self._maker: HitMaker | None = None
        self._said_at = self._troubled_at = 0.0
        self._troubled_by = ""
        self._answered: OrderedDict[tuple[str, int], str] = OrderedDict()
        self._nonsense: deque[float] = deque(maxlen=NONSENSE)
        self._connection: socket.socket | None = None
        self._writing = threading.Lock()  # answers and looks come from threads of their own
        self._looks, self._asked_at = 0, 0.0

    @property
    def listens(self) -> bool:
        """Whether the instrument answers orders now."""
        return self._connection is not None and self._maker is not None

    def ask(self, look: Look) -> None:
        """Ask the instrument to look; what comes of it comes as hits. What it will not do, or does not answer, is said."""
        connection, self._looks = self._connection, self._looks + 1
        try:
            if connection is None:
                raise OSError
            with self._writing:
                connection.sendall(look.message(self._looks))
            self._asked_at = time.monotonic()
        except OSError:
            self.trouble("The instrument is not there to be asked. Nothing was read. Look at its cable.")

    def run(self) -> None:
        for work in (self._hand_over, self._publish):
            threading.Thread(target=work, daemon=True).start()
        said, failures = "", 0
        while not self.stop.is_set():
            began = time.monotonic()
            reason = self._connected_once()
            self._latest = None
            failures = 0 if time.monotonic() - began > SILENCE_S else failures + 1
            if reason != said or self._greeted:
                self._tell_sink(lambda why=reason: self.sink.lost(why))
                said, self._greeted = reason, False
            self.stop.wait(min(RETRY_S * max(failures, 1), LONGEST_RETRY_S))

    def _connected_once(self) -> str:
        """Listen until the connection ends; why it did."""
        try:
            with socket.create_connection((self.host, self.port), timeout=SILENCE_S) as connection:
                self._connection = connection
                self._listen(connection)
            return "The instrument ended the connection."
        except TimeoutError:
            return "The instrument has gone silent."
        except OSError:
            return "The instrument cannot be reached."
        except PlumbError as error:
            return str(error)
        except Exception:  # nothing that an instrument says ends its thread
            log.exception("what the instrument said could not be read")
            return "What the instrument says cannot be read. It is asked again."
        finally:
            self._connection = None
            if self._maker:
                self._keep(self._maker.link_lost(), lambda message: None)

    # ---- reading ----------------------------------------------------------------------

    def _listen(self, connection: socket.socket) -> None:
        flushed = refreshed = 0.0
        greeted = False
        lines = connection.makefile("rb")

        def reply(message: bytes) -> None:
            with suppress(OSError), self._writing:  # the press is sent again after the reconnect, and is known by its number
                connection.sendall(message)

        while not self.stop.is_set():
            line = lines.readline(LINE_BYTES)
            if not line:
                return
            if not line.endswith(b"\n"):
                raise DeviceError("The instrument sends a line without an end.", "It was not kept.", "It is asked again.")
            now = self._heard_at = time.monotonic()
            try:
                message = decode(line)
                if greeted and self._maker is not None and isinstance(message, PoseMessage | Press | Stripe):
                    self._maker.must_fit(message if isinstance(message, PoseMessage) else message.pose)
            except DeviceError as error:
                if not greeted:  # why it is lost is said, rather than what comes after
                    raise
                self._refused(str(error), now)
                continue
            if isinstance(message, Hello):
                self._answered = OrderedDict()  # what comes again from here on may be meant for another place
                if self._maker is None or self._maker.session != message.session:
                    self._maker = HitMaker(message.session, message.kind in SEE_SURFACES, message.kind in TELL_RANGES)
                self._refresh(self._maker)
                self._greet(message)
                greeted = True
            elif self._maker is None or not greeted:
                raise DeviceError("The instrument did not say who it is.", "Nothing was kept.", "Check its address.")
            elif isinstance(message, State | LevelMessage | TargetMessage):
                self._newest[type(message)] = self._word_of(message)
                self._news.set()
            elif isinstance(message, Event):
                self._queue(lambda event=message: self.sink.event(event), None, reply)
            elif isinstance(message, AnswerMessage):
                self._asked_at = 0.0
                if not message.ok:
                    self.trouble(
                        f"It does not look there: {message.why.rstrip('.') or 'it did not say why'}. Nothing was read."
                    )
            elif isinstance(message, Press):
                self._pressed(message, self._maker, reply)
            else:
                if isinstance(message, Stripe):
                    self._maker.scanned(message)
                else:
                    self._latest = message
                    self._news.set()
                    self._maker.seen(message)
                if now - refreshed > 0.5:
                    refreshed = now
                    self._refresh(self._maker)
                if now - flushed > FLUSH_S and (batches := self._maker.flush()):
                    flushed = now
                    self._keep(batches, reply)

    def _word_of(self, message: State | LevelMessage | TargetMessage) -> Callable[[], None]:
        if isinstance(message, State):
            return lambda: self.sink.state(message)
        if isinstance(message, LevelMessage):
            return lambda: self.sink.level(message)
        return lambda: self.sink.target(message)

    def _refused(self, words: str, now: float) -> None:
        """Say what did not fit, once a second at most; who sends nothing else is left alone for a while."""
        self._nonsense.append(now)
        if now - self._said_at > 1.0:
            self._said_at = now
            self.trouble(words)
        if len(self._nonsense) == NONSENSE and now - self._nonsense[0] < 1.0:
            self._nonsense.clear()
            raise DeviceError(
                f"The instrument sends nothing but faults, last: {words}", "Earlier hits are kept.", "Look at its software."
            )

    def trouble(self, words: str) -> None:
        """Said at once where it is news, and else once a second at most."""
        now = time.monotonic()
        if words == self._troubled_by and now - self._troubled_at < 1.0:
            return
        self._troubled_by, self._troubled_at = words, now
        self._tell_sink(lambda: self.sink.trouble(words))

    def _greet(self, hello: Hello) -> None:
        """The sink may refuse an instrument; a database that is away may not."""
        try:
            self._greeted = True
            self.sink.connected(hello)
        except PlumbError:
            raise
        except Exception:
            log.warning("the database cannot be reached")

    def _refresh(self, maker: HitMaker) -> None:
        def update() -> None:
            offset_mm, taking = self.sink.settings()
            maker.offset_mm = np.asarray(offset_mm)
            if taking != maker.taking:
                maker.taking = taking

        self._tell_sink(update)

    def _pressed(self, press: Press, maker: HitMaker, reply) -> None:
        number, session = press.number, maker.session
        known = session, number
        if not press.down:
            if press.button == "take":
                self._keep(maker.release(), reply)
            self._queue(lambda: None, known, reply)
        elif press.button == "take":
            try:
                maker.must_be_new(number, press.pose)
            except DeviceError as error:
                return self._queue(partial(_refuse, error), known, reply)
            if maker.held:  # it did not say that the button came up
                self._keep(maker.release(), reply)
            batch = maker.press(press.pose, every=press.look is not None)
            self._queue(lambda: self.sink.keep(batch, number), known, reply)
        elif press.button == "finish":
            batch = maker.pull_off(press.pose)
            self._queue(lambda: self.sink.finish(batch, number), known, reply)
        elif press.button in ("undo", "undo_sweep"):
            self._queue(lambda: self.sink.undo(press.button == "undo_sweep", session, number), known, reply)
        elif press.button == "way":
            self._queue(lambda: self.sink.next_way(session, number), known, reply)
        elif press.button == "touch":
            self._queue(lambda: self.sink.just_touch(session, number), known, reply)
        else:
            by = 1 if press.button == "next" else -1
            self._queue(lambda: self.sink.step(by, session, number), known, reply)

    # ---- handing over -----------------------------------------------------------------

    def _keep(self, batches: Iterable[HitBatch], reply) -> None:
        for batch in batches:
            self._queue(lambda b=batch: self.sink.keep(b, None), None, reply)

    def _queue(self, carry_out, press, reply) -> None:
        self._acts.put(_Act(carry_out, press, reply))

    def _hand_over(self) -> None:
        may, counted = PRESSES_AT_ONCE, time.monotonic()
        while not self.stop.is_set():
            now = time.monotonic()
            may, counted = min(PRESSES_AT_ONCE, may + PRESSES_PER_S * (now - counted)), now
            if may < 1.0:
                self.stop.wait((1.0 - may) / PRESSES_PER_S)
                continue
            try:
                act = self._acts.get(timeout=0.2)
            except queue.Empty:
                continue
            answered = self._answered
            tone = answered.get(act.press) if act.press else None
            if tone is None:
                may -= 1.0
                self._say_newest()  # a press is kept with the level and the weather that were told before it
                tone = self._until_done(act.carry_out) or "none"
            if act.press is not None:
                answered[act.press] = tone
                if len(answered) > ANSWERED:
                    answered.popitem(last=False)
                act.reply(encode(t="done", e=act.press[1], tone=tone))

    def _until_done(self, carry_out: Callable[[], str | None]) -> str | None:
        """Carry an act out, again and again while the database is away."""
        while not self.stop.is_set():
            try:
                return carry_out()
            except PlumbError as error:
                self.trouble(str(error))
                return "refused"
            except Exception as error:
                if not self.sink.passes(error):
                    log.exception("a press could not be kept")
                    self.trouble(NOT_KEPT)
                    return "refused"
                log.warning("an act could not be committed yet; trying again", exc_info=log.isEnabledFor(logging.DEBUG))
                self.stop.wait(RETRY_S)
        return None

    def _publish(self) -> None:
        """Publish what may be dropped: the tip, the newest state, and the heartbeat."""
        last, alive = None, 0.0
        while not self.stop.wait(TIP_S):
            self._news.wait(ALIVE_S / 4)
            self._news.clear()
            self._say_newest()
            pose, now = self._latest, time.monotonic()
            if self._asked_at and now - self._asked_at > ANSWER_S:
                self._asked_at = 0.0
                self.trouble(NO_ANSWER)
            if pose is not None and pose is not last:
                last = pose
                away = self._maker.away_mm(pose.at) if self._maker is not None else None
                self._tell_sink(lambda p=pose, away=away: self.sink.tip(p, away))
            if now - alive > ALIVE_S and now - self._heard_at < ALIVE_S and self._greeted:
                alive = now
                self._tell_sink(self.sink.alive)
                if self._troubled_at and now - self._troubled_at > CALM_S:
                    self._troubled_at = 0.0
                    self._tell_sink(lambda: self.sink.trouble(""))

    def _say_newest(self) -> None:
        for kind in list(self._newest):
            if word := self._newest.pop(kind, None):
                self._tell_sink(word)

    def _tell_sink(self, call: Callable[[], None]) -> None:
        """For what may be missed: it is said again soon."""
        try:
            call()
        except Exception:
            log.warning("the database cannot be reached", exc_info=log.isEnabledFor(logging.DEBUG))
