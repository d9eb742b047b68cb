"""Which text runs in a setup in place of the one that is written from its operations?"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable
from typing import Annotated, Literal

from pydantic import Field

from pelvrak.core.cutting.tools import Tool
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.part import Frozen

# A text from outside may be so large, bytes: more than a million lines.
MOST_BYTES = 64 * 1024**2
_COMMENT = re.compile(r"\([^()\n]*\)|;.*")
_CALLED = re.compile(r"\A[%\s]*?^\s*[O:]\d+", re.MULTILINE | re.ASCII)
# What a comment tells of a tool, as people write them: its number, and its diameter behind a letter or sign.
_TOOL = re.compile(r"T\s*(\d{1,4})\b", re.ASCII)
_DIAMETER = re.compile(r"(?:\bDIA\.?|\bD|Ø)\s*[=:]?\s*(\d+(?:\.\d*)?|\.\d+)", re.ASCII | re.IGNORECASE)


class NumberedTool(Frozen):
    """Which tool of the plan a T number of a text is. number: of the text; tool: its id in the plan."""

    number: Annotated[int, Field(ge=1, le=99_999)]
    tool: Annotated[str, Field(min_length=1, max_length=60)]


class CalledFile(Frozen):
    """A file whose programs a text calls. file: its name; sha256: of its bytes."""

    file: Annotated[str, Field(min_length=1, max_length=200)]
    sha256: Annotated[str, Field(pattern="^[0-9a-f]{64}$")] | None = None


class OwnText(Frozen):
    """A text that runs in place of the written program: changed by hand, or from elsewhere.

    file: its name; sha256: of its bytes; made_from: what the written program was called by its content
    when it was changed; None: it comes from elsewhere. carried: the next setup begins with what it
    leaves, not with what was planned. tools: which tool each T number is, where it is not the one in that
    place; radius_under_d: what the control is given under D: the wear of the radius, or all of it.
    beside: files with programs that it calls; block_delete: lines that begin with / are left out.
    """

    file: Annotated[str, Field(min_length=1, max_length=200)]
    sha256: Annotated[str, Field(pattern="^[0-9a-f]{64}$")] | None = None
    made_from: Annotated[str, Field(pattern="^[0-9a-f]{64}$")] | None = None
    carried: bool = True
    tools: Annotated[tuple[NumberedTool, ...], Field(max_length=400)] = ()
    radius_under_d: Literal["wear", "whole"] = "wear"
    beside: Annotated[tuple[CalledFile, ...], Field(max_length=20)] = ()
    block_delete: bool = True

    def called_texts(self, files: Callable[[str | None, str], bytes]) -> tuple[str, ...]:
        """The files beside it, read. files: bytes by their sum and name. Raises BadInput."""
        return tuple(readable(files(one.sha256, one.file), one.file) for one in self.beside)

    def radii(self, tools: dict[int, Tool]) -> dict[int, float]:
        """What stands under D, mm, where it is not 0. tools: by their numbers."""
        whole = self.radius_under_d == "whole"
        return {number: tool.DC / 2 for number, tool in tools.items()} if whole else {}


def uncommented(text: str) -> str:
    """A text without its comments; every line keeps its number."""
    return _COMMENT.sub("", text)


def without_comments(text: str) -> str:
    """A program as the control takes it, without the number it is kept under; every line keeps its own."""
    bare = uncommented(text)
    return _CALLED.sub(lambda found: "\n" * found[0].count("\n"), bare, count=1)


def called_by(text: str) -> str:
    """What a program is called by its content: SHA-256 (FIPS 180-4) without comments and its number."""
    return hashlib.sha256(without_comments(text).encode()).hexdigest()


def tools_told(text: str) -> dict[int, tuple[str, float | None]]:
    """What comments tell of tools: by number what is said, and the diameter where one is, mm. The first
    comment that names a number counts.
    """
    out: dict[int, tuple[str, float | None]] = {}
    for found in re.finditer(r"\(([^()\n]*)\)|;(.*)", text):
        said = (found[1] or found[2] or "").strip()
        tool = _TOOL.search(said)
        if tool is None or int(tool[1]) in out:
            continue
        rest = said[tool.end() :].strip(" :-=,.")
        diameter = _DIAMETER.search(rest)
        out[int(tool[1])] = (rest[:60], float(diameter[1]) if diameter else None)
    return out


def readable(data: bytes, name: str) -> str:
    """The text in a file's bytes, its lines ended by a line feed alone. Raises BadInput for what is no
    text, or too large.
    """
    if len(data) > MOST_BYTES:
        raise BadInput(
            "program.too_large",
            name,
            f"the text is over {MOST_BYTES // 1024**2} MiB",
            "break it up into programs of one setup each",
        )
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        text = data.decode("latin-1")
    if "\0" in text:
        raise BadInput("program.no_text", name, "this is no text", "choose the program's text file")
    return text.replace("\r\n", "\n").replace("\r", "\n")
