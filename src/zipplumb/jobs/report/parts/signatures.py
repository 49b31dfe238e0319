"""Who signs it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import Field

from ....exchange.document import Section
from .base import Gathering, Line, Part

USUAL = ("Measured by", "Checked by")


class SignaturesPart(Part):
    kind: Literal["signatures"] = "signatures"
    noun = "Signatures"
    usual = False
    names: Annotated[tuple[Line, ...], Field(max_length=12)] = USUAL

    def gather(self, of: Gathering) -> Section | None:
        return Section(self.kind, self.title, self.names) if self.names else None

    @classmethod
    def typed(cls, texts: Mapping[str, str]) -> dict[str, Any]:
        return {"names": [each.strip() for each in texts.get("names", "").splitlines() if each.strip()]}

    def shown(self) -> dict[str, str]:
        return {"names": "\n".join(self.names)}

    @property
    def fields(self) -> tuple[tuple[str, str, int], ...]:
        return (("names", "Who signs, one a line", 3),)


KIND = SignaturesPart
