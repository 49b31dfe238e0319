"""Details as they were found and as they were left."""

from __future__ import annotations

from typing import Literal

from ....exchange import detail_table
from ....exchange.document import DataSheet, Section
from ...place.inspection import detail_tables
from .base import Gathering, Part


class DetailsPart(Part):
    kind: Literal["details"] = "details"
    noun = "Details as found and as left"

    def gather(self, of: Gathering) -> Section | None:
        tables = detail_tables(of.session, of.state)
        if not tables:
            return None
        widths = (20, 20, *[11] * (len(detail_table.HEADINGS) - 2))
        sheet = DataSheet("Details", detail_table.HEADINGS, widths, [line for table in tables for line in table.cells()])
        return Section(self.kind, self.title, tables, (sheet,))


KIND = DetailsPart
