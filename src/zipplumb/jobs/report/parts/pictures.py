"""Pictures of the part, drawn anew, with their tags."""

from __future__ import annotations

from typing import Literal

from ....core.errors import InputError
from ....exchange.document import Section
from ....exchange.picture_svg import PictureShown
from ..pictures import pictures_of, shown
from .base import Gathering, Named, Pictures


class PicturesPart(Named):
    """``pictures``: those, by their numbers, none for all that were kept; ``named``: of these those with such captions."""

    kind: Literal["pictures"] = "pictures"
    noun = "Pictures"
    named_words = "Which of them, by the words under them; all where empty"
    pictures: Pictures = ()

    def gather(self, of: Gathering) -> Section | None:
        if not of.pictures:
            return None
        kept = [each for each in pictures_of(of.session, of.state.job.id) if not self.pictures or each.id in self.pictures]
        wanted = {text.strip().casefold() for text in self.named.split(",") if text.strip()}
        kept = [each for each in kept if not wanted or each.caption.casefold() in wanted]
        found = []
        for number, picture in enumerate(kept):
            if of.address is not None:
                found.append(PictureShown(picture.caption, picture.caption, "", source=of.address(picture)))
                continue
            try:
                found.append(shown(of.state, picture, number))
            except InputError as error:
                found.append(PictureShown(picture.caption, picture.caption, "", str(error)))
        return Section(self.kind, self.title, found) if found else None


KIND = PicturesPart
