"""How does the core refuse bad input?"""

from __future__ import annotations

from typing import Any


class BadInput(ValueError):
    """Input from outside that cannot be used.

    code: stable short name, such as "part.unreadable".
    where: the field, file or line it came from.
    what: what is wrong, in one sentence.
    mend: how to put it right.
    """

    def __init__(self, code: str, where: str, what: str, mend: str) -> None:
        super().__init__(f"{where}: {what}; {mend}")
        self.code = code
        self.where = where
        self.what = what
        self.mend = mend

    def __reduce__(self) -> tuple[type[BadInput], tuple[Any, ...]]:
        """So that it passes between processes."""
        return BadInput, (self.code, self.where, self.what, self.mend)

    def told(self) -> dict[str, str]:
        """The refusal in its four pieces."""
        return {"code": self.code, "where": self.where, "what": self.what, "mend": self.mend}


class SeveralSolids(BadInput):
    """A file with more than one solid. choices: number, name, size (mm) and volume (mm³) of each."""

    def __init__(self, where: str, choices: list[dict[str, Any]]) -> None:
        super().__init__(
            "part.several_solids", where, f"the file holds {len(choices)} solids", "choose the one part to be made"
        )
        self.choices = choices

    def __reduce__(self) -> tuple[type[BadInput], tuple[Any, ...]]:
        return SeveralSolids, (self.where, self.choices)


class Stopped(Exception):
    """The user asked a running computation to stop."""
