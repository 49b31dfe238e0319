"""What an instrument is to look at, on its way from a person to its link."""

from datetime import UTC, datetime, timedelta

import pytest

from zipplumb.devices.protocol import Look
from zipplumb.jobs.kit import instruments, looks
from zipplumb.store.database import transaction
from zipplumb.store.models import Instrument

ASKED = {"at": [4000.0, 100.0, -50.0], "to": None, "side_mm": 30.0, "points": 49}


class Agent:
    """Remembers what it was told."""

    def __init__(self, listens=True):
        self.listens, self.asked, self.said = listens, [], []

    def ask(self, look):
        self.asked.append(look)

    def trouble(self, words):
        self.said.append(words)


@pytest.fixture
def asked(stack):
    """A radar that is to look. Returns how it is asked, so many seconds ago."""
    radar = instruments.add_instrument("Asked radar", "radar", "127.0.0.1", 1, 0.05, instruments.spec_from_form("radar", {}))

    def ask(seconds=0.0):
        with transaction() as session:
            instrument = session.get(Instrument, radar)
            instrument.asked, instrument.asked_at = ASKED, datetime.now(UTC) - timedelta(seconds=seconds)
        return radar

    return ask


def test_it_is_asked_once(asked):
    radar, agent = asked(), Agent()
    looks.pass_on(radar, agent)
    looks.pass_on(radar, agent)
    assert agent.asked == [Look(**ASKED)]


def test_while_it_is_away_it_waits(asked):
    radar, away, back = asked(), Agent(listens=False), Agent()
    looks.pass_on(radar, away)
    assert not away.asked and not away.said
    looks.pass_on(radar, back)
    assert back.asked == [Look(**ASKED)]


def test_what_waited_too_long_is_not_done_and_said(asked):
    radar, agent = asked(60.0), Agent()
    looks.pass_on(radar, agent)
    looks.pass_on(radar, agent)
    assert not agent.asked and agent.said == [looks.TOO_LATE]
