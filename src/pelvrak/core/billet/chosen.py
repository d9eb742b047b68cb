"""Which stock comes into a setup, where it is not the one that the setup before left?"""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from pelvrak.core.billet.forms import Billet
from pelvrak.core.billet.several import PieceName
from pelvrak.core.geometry.part import Frozen


class Earlier(Frozen):
    """The stock as it stood at an earlier moment of the route.

    setup: by its name; after: the operation of it, by its id; None: before its first cut.
    """

    called: ClassVar[str] = "an earlier moment"

    rule: Literal["earlier"] = "earlier"
    setup: Annotated[str, Field(min_length=1, max_length=20)]
    after: Annotated[str, Field(min_length=1, max_length=60)] | None = None


class Brought(Frozen):
    """Another stock: a measured casting, one that was saved in this plan or another, a shape made by hand.

    stock: where it lies round the part; of what material is the billet's to say.
    """

    called: ClassVar[str] = "another stock"

    rule: Literal["brought"] = "brought"
    stock: Billet


class OtherPiece(Frozen):
    """Another piece of a billet that was divided. piece: by its name; it lies as the part does."""

    called: ClassVar[str] = "another piece of the billet"

    rule: Literal["piece"] = "piece"
    piece: PieceName


Chosen = Annotated[Earlier | Brought | OtherPiece, Field(discriminator="rule")]
