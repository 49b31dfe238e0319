"""Between an instrument's agent and the database: the agent's sink, and the link process."""

from __future__ import annotations

import json
import logging
import math
import threading
import time
from contextlib import suppress
from typing import Any

import numpy as np
import psycopg
from sqlalchemy import select
from sqlalchemy.exc import DBAPIError, InterfaceError, OperationalError, SQLAlchemyError
from sqlalchemy.exc import TimeoutError as PoolTimeout

from ...core.errors import DeviceError, InputError, PlumbError
from ...core.frames import points_of_poses
from ...core.probing import Taking
from ...devices.agent import Agent
from ...devices.hits import HitBatch
from ...devices.protocol import Event, Hello, LevelMessage, PoseMessage, State, TargetMessage
from ...store.database import ORDER, database_url, stored, transaction
from ...store.models import Instrument
from ..kit import instruments, looks, trust
from ..kit.instrument_kinds import INSTRUMENT_KINDS
from . import presses
from .shared import Settings, Shared

log = logging.getLogger(__name__)
AGAIN_S = 5.0  # what did not change is kept once more: somebody may have changed it meanwhile
LOCKS = 0x5A50  # the space of our advisory locks


class JobsSink:
    """Keeps what one instrument sends."""

    def __init__(self, instrument_id: int, shared: Shared):
        self.instrument_id, self._shared = instrument_id, shared
        self._now: Settings | None = None
        self._told: dict[str, tuple[Any, float]] = {}  # by what: as it was kept last, and when

    def connected(self, hello: Hello) -> None:
        self._told.clear()
        kind = self._kind()
        if hello.kind != kind:
            raise DeviceError(
                f"What answers there is of another kind: {INSTRUMENT_KINDS[hello.kind].words}.",
                "Nothing of it is kept.",
                "Look at its address.",
            )
        instruments.seen(
            self.instrument_id, connected=True, serial=hello.serial, model=hello.model, axes=hello.axes, trouble=""
        )

    def _kind(self) -> str:
        with transaction() as session:
            return stored(session, Instrument, self.instrument_id).kind

    def alive(self) -> None:
        instruments.still_there(self.instrument_id)

    def passes(self, error: Exception) -> bool:
        lost = isinstance(error, DBAPIError) and error.connection_invalidated
        return lost or isinstance(error, OperationalError | InterfaceError | PoolTimeout | psycopg.OperationalError)

    def lost(self, why: str) -> None:
        self._told.clear()
        instruments.seen(self.instrument_id, connected=False, trouble=why)

    def trouble(self, words: str) -> None:
        instruments.seen(self.instrument_id, trouble=words)

    def state(self, state: State) -> None:
        self._keep_news(
            "state", connected=True, temperature_c=state.temperature_c, pressure_hpa=state.pressure_hpa,
            humidity_percent=state.humidity_percent,
        )  # fmt: skip

    def level(self, level: LevelMessage) -> None:
        self._keep_news("level", level=list(level.up), u_level_rad=level.u_rad)

    def target(self, target: TargetMessage) -> None:
        self._keep_news("target", target=target.state)

    def _keep_news(self, what: str, **values: Any) -> None:
        """What is said again and again is kept where it is other than before, and else now and then."""
        before, at = self._told.get(what, (None, 0.0))
        if values != before or time.monotonic() - at > AGAIN_S:
            instruments.seen(self.instrument_id, **values)
            self._told[what] = values, time.monotonic()

    def event(self, event: Event) -> None:
        trust.happened(self.instrument_id, event.what)

    def settings(self) -> tuple[list[float], Taking]:
        now = self._shared.settings(self.instrument_id)
        if now is None:
            raise InputError("The instrument was removed.", "Its hits are kept.", "Add it again to measure with it.")
        self._now = now
        return now.offset_mm, now.taking

    def tip(self, pose: PoseMessage, away_mm: float | None) -> None:
        """Send the tip round; missed ones do not matter, so nothing is stored."""
        if self._now is None:
            return
        clear = self._now.clear_mm
        light = None if clear is None or away_mm is None else [None if math.isnan(away_mm) else round(away_mm, 2), *clear]
        tip = points_of_poses(np.array([pose.values]), self._now.offset_mm)[0]
        self._shared.tip({
            "instrument": self.instrument_id, "station": self._now.station, "tip": [round(float(v), 4) for v in tip],
            "axis": [round(float(v), 3) for v in pose.values[:3]], "radius": self._now.tip_radius_mm,
            "at": pose.at, "light": light,
        })  # fmt: skip

    def keep(self, batch: HitBatch, number: int | None) -> str:
        return presses.keep(self.instrument_id, batch, number)

    def finish(self, batch: HitBatch, number: int) -> str:
        return presses.finish(self.instrument_id, batch, number)

    def undo(self, sweep: bool, session: str, number: int) -> str:
        return presses.undo(self.instrument_id, sweep, session, number)

    def step(self, by: int, session: str, number: int) -> str:
        return presses.step(self.instrument_id, by, session, number)

    def next_way(self, session: str, number: int) -> str:
        return presses.next_way(self.instrument_id, session, number)

    def just_touch(self, session: str, number: int) -> str:
        return presses.just_touch(self.instrument_id, session, number)


class HeldPress:
    """Which instruments this link has for itself, among all links of one database: by locks of one connection."""

    def __init__(self):
        self.connection: psycopg.Connection | None = None
        self.ids: set[int] = set()

    def hold(self, wanted: set[int]) -> set[int]:
        """Lock the wanted instruments; returns those that are held by this link now. Raises psycopg.Error where the database is
        away; then none is."""
        try:
            if self.connection is None:
                self.ids = set()
                self.connection = psycopg.connect(database_url(), autocommit=True, connect_timeout=3)
            self.connection.execute("SELECT 1")
            for i in wanted - self.ids:
                if self.connection.execute("SELECT pg_try_advisory_lock(%s, %s)", (LOCKS, i)).fetchone() == (True,):
                    self.ids.add(i)
            for i in self.ids - wanted:
                self.connection.execute("SELECT pg_advisory_unlock(%s, %s)", (LOCKS, i))
        except psycopg.Error:
            self.connection, self.ids = None, set()
            raise
        self.ids &= wanted
        return set(self.ids)


def run_link() -> None:
    """Keep an agent for every instrument that no other link keeps, those added later included. Never returns."""
    agents: dict[int, tuple[tuple[str, int], Agent]] = {}
    held, shared = HeldPress(), Shared()
    threading.Thread(target=_pass_orders_on, args=(agents,), daemon=True).start()
    while True:
        try:
            with transaction() as session:
                here = session.scalars(select(Instrument).where(Instrument.removed_at.is_(None)))
                there = here.all()
                addresses = {i.id: (i.host, i.port) for i in there}
                asked = {i.id for i in there if i.asked is not None}  # while no link heard of it
            ours = held.hold(set(addresses))
        except (SQLAlchemyError, psycopg.Error):
            log.warning("the database cannot be reached; trying again")
            time.sleep(0.5)
            continue
        _keep(agents, {i: address for i, address in addresses.items() if i in ours}, shared)
        for instrument_id in asked & set(agents):
            with suppress(PlumbError, SQLAlchemyError):
                looks.pass_on(instrument_id, agents[instrument_id][1])
        time.sleep(1)


def _pass_orders_on(agents: dict[int, tuple[tuple[str, int], Agent]]) -> None:
    """Forward orders of a person to the instrument's agent, if it is in this process."""
    while True:
        try:
            with psycopg.connect(database_url(), autocommit=True, connect_timeout=3) as connection:
                connection.execute(f"LISTEN {ORDER}")
                for word in connection.notifies():
                    instrument_id = json.loads(word.payload)["instrument"]
                    if instrument_id in agents:
                        looks.pass_on(instrument_id, agents[instrument_id][1])
        except psycopg.Error:
            time.sleep(0.5)
        except Exception:
            log.exception("an order could not be passed on")


def _keep(agents: dict[int, tuple[tuple[str, int], Agent]], wanted: dict[int, tuple[str, int]], shared: Shared) -> None:
    """Agents for what is wanted, at the addresses of now, and for nothing else."""
    for instrument_id in [i for i, (address, _) in agents.items() if wanted.get(i) != address]:
        agents.pop(instrument_id)[1].stop.set()
    for instrument_id, address in wanted.items():
        if instrument_id not in agents:
            agent = Agent(*address, JobsSink(instrument_id, shared))
            threading.Thread(target=agent.run, daemon=True).start()
            agents[instrument_id] = (address, agent)
