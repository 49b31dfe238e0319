"""Who, when, with what."""

from __future__ import annotations

from typing import Literal

from ....exchange.document import DataSheet, Section
from ..facts import gather_facts
from .base import Gathering, Part


class AboutPart(Part):
    kind: Literal["about"] = "about"
    noun = "Who, when, with what"

    def gather(self, of: Gathering) -> Section:
        facts = gather_facts(of.session, of.state, of.by)
        return Section(self.kind, self.title, facts, (DataSheet("About", ("What", "Told"), (22, 70), facts),))


KIND = AboutPart
