"""Shared by all agents of one link: reading their settings, and publishing the live tip position.

An instrument more is a line more of the same question, not a question more.
"""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

import psycopg
from sqlalchemy import select

from ...core.cloud.head import ScannerHead
from ...core.probing import Taking, way_of_taking
from ...store.database import TIP, database_url, transaction
from ...store.models import Calibration, Instrument, Job, Probe, Row, Station, Trial
from ..kit.trials import taking_of

FRESH_S, TIP_S = 0.4, 1 / 30
SPACING_MM, EVERY_S = 5.0, 0.5
HERE = (
    select(
        Instrument.id, Instrument.station_id, Calibration.offset_mm, Calibration.diameter_mm, Calibration.method,
        Trial.kind.label("trial"), Probe.maker_states,
        Row.recipe.label("recipe"),
    )
    .outerjoin(Calibration, Calibration.id == Instrument.calibration_id)
.outerjoin(Probe, Probe.id == Calibration.probe_id)
    .outerjoin(Trial, Trial.id == Instrument.trial_id)
    .outerjoin(Station, Station.id == Instrument.station_id)
    .outerjoin(Job, Job.id == Station.job_id)
    .outerjoin(Row, Row.id == Job.current_row_id)
    .where(Instrument.removed_at.is_(None))
)  # fmt: skip


@dataclass(frozen=True)
class Settings:
    """The current settings of an instrument: station, probe, way of taking. ``clear_mm``: from where to where a scanner's light
    is clear, as its maker states."""

    station: int | None
    offset_mm: list[float]
    tip_radius_mm: float | None
    taking: Taking
    clear_mm: tuple[float, float] | None = None


def _taking(recipe: dict[str, Any] | None) -> Taking:
    """The way of taking hits, as the current row has it; nothing where the row takes no hits or there is none."""
    told = recipe or {}
    return way_of_taking(told.get("taking", "distance"), told.get("spacing_mm", SPACING_MM), told.get("every_s", EVERY_S))


def _clear(maker_states: dict[str, Any] | None) -> tuple[float, float] | None:
    if maker_states is None:
        return None
    head = ScannerHead.model_validate(maker_states)
    return head.nearest_mm, head.farthest_mm


def settings_now() -> dict[int, Settings]:
    """The settings of every instrument."""
    with transaction() as session:
        return {
            i.id: Settings(
                i.station_id, list(i.offset_mm or (0.0, 0.0, 0.0)),
                i.diameter_mm / 2 if i.diameter_mm or i.method == "stated" else None,
                taking_of(i.trial) if i.trial else _taking(i.recipe), _clear(i.maker_states),
            )
            for i in session.execute(HERE)
        }  # fmt: skip


class Shared:
    """The state of one link that all its agents' threads share."""

    def __init__(self):
        self._lock = threading.Lock()
        self._settings: dict[int, Settings] = {}
        self._read_at = 0.0
        self._tips: dict[int, dict[str, Any]] = {}
        self._any, self._posting = threading.Event(), False

    def settings(self, instrument_id: int) -> Settings | None:
        """At most a moment old. None for an instrument that is not there."""
        with self._lock:
            if time.monotonic() - self._read_at > FRESH_S or instrument_id not in self._settings:
                self._settings, self._read_at = settings_now(), time.monotonic()
            return self._settings.get(instrument_id)

    def tip(self, word: dict[str, Any]) -> None:
        """To be sent with the next: the newest of each instrument."""
        self._tips[word["instrument"]] = word
        if not self._posting:
            self._posting = True
            threading.Thread(target=self._post, daemon=True).start()
        self._any.set()

    def _post(self) -> None:
        channel: psycopg.Connection | None = None
        while True:
            self._any.wait()
            self._any.clear()
            words = [word for i in list(self._tips) if (word := self._tips.pop(i, None))]
            try:
                if channel is None or channel.closed:
                    # a tip need not outlive a crash, and waiting for the disk would hold up the hits
                    channel = psycopg.connect(database_url(), autocommit=True, options="-c synchronous_commit=off")
                send(channel, words)
            except psycopg.Error:
                if channel is not None:
                    channel.close()
                time.sleep(0.5)
            time.sleep(TIP_S)


def send(channel: psycopg.Connection, words: Iterable[dict[str, Any]]) -> None:
    """Let every web process know where tips are; nothing is stored."""
    query = "SELECT pg_notify(%s, word) FROM unnest(%s::text[]) AS word"
    channel.execute(query, (TIP, [json.dumps(word) for word in words]))
