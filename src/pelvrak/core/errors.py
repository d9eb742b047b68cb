"""How does the core refuse bad input?"""

from __future__ import annotations

import json
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
            "part.several_solids",
            where,
            f"the file holds {len(choices)} solids",
            "choose the one part to be made",
        )
        self.choices = choices

    def __reduce__(self) -> tuple[type[BadInput], tuple[Any, ...]]:
        return SeveralSolids, (self.where, self.choices)


class Stopped(Exception):
    """The user asked a running computation to stop."""


# What the patterns of the plan's short names allow, as a machinist would say it.
_PATTERNS = {
    "^[A-Za-z0-9_-]{1,20}$": "1 to 20 letters, digits, _ and -",
    "^[A-Za-z0-9_-]{0,20}$": "at most 20 letters, digits, _ and -",
    "^[A-Za-z0-9_.-]{1,20}$": "1 to 20 letters, digits, points, _ and -",
    "^[A-Za-z0-9_.-]{1,40}$": "1 to 40 letters, digits, points, _ and -",
    "^[a-z0-9-]{1,40}$": "1 to 40 small letters, digits and -",
    "^[^\\n]{1,40}$": "1 to 40 characters on one line",
    "^[^\\n()]*$": "one line without brackets",
    "^[0-9a-f]{64}$": "the SHA-256 of a file: 64 digits 0 to 9 and a to f",
    r"^(G5[4-9]|G54\.1 P[1-9][0-9]{0,2})$": "an offset register: G54 to G59, or G54.1 P1 to P999",
}


def plain(error: Any) -> tuple[str, str]:
    """What a validation error means and how to mend it, in words. error: one of pydantic's, with type, msg,
    loc and ctx.
    """
    kind, about = error["type"], error.get("ctx") or {}
    last = str(error["loc"][-1]) if error.get("loc") else "it"
    bounds = {
        "greater_than": ("above", "gt"),
        "greater_than_equal": ("at least", "ge"),
        "less_than": ("below", "lt"),
        "less_than_equal": ("at most", "le"),
    }
    if kind in bounds:
        word, name = bounds[kind]
        limit = about.get(name)
        shown = f"{limit:g}" if isinstance(limit, (int, float)) else str(limit)
        return f"it has to be {word} {shown}", "give a larger one" if word in (
            "above",
            "at least",
        ) else "give a smaller one"
    if kind == "string_pattern_mismatch":
        allowed = _PATTERNS.get(str(about.get("pattern")), "other characters or another length")
        return f"it has to be {allowed}", "write it so"
    if kind in ("string_too_long", "string_too_short", "too_long", "too_short"):
        most = about.get("max_length")
        limit = most if most is not None else about.get("min_length")
        word = "at most" if most is not None else "at least"
        things = "characters" if kind.startswith("string") else "entries"
        return f"it has to have {word} {limit} {things}", f"give {word} {limit}"
    if kind in ("literal_error", "enum", "union_tag_invalid"):
        expected = str(about.get("expected") or about.get("expected_tags") or "what is offered")
        return f"it has to be one of {expected}", "choose one of them"
    words = {
        "missing": ("it is missing", "give it"),
        "extra_forbidden": (f"there is no field {last!r} here", "leave it out, or check how it is written"),
        "union_tag_not_found": ("it does not say of which kind it is", "give its kind"),
        "finite_number": ("it is no number that can be measured", "give a number"),
        "model_type": ("it has to be a group of fields", "give it as { … }"),
        "model_attributes_type": ("it has to be a group of fields", "give it as { … }"),
        "dict_type": ("it has to be a group of fields", "give it as { … }"),
        "tuple_type": ("it has to be a list", "give it as [ … ]"),
        "list_type": ("it has to be a list", "give it as [ … ]"),
        "string_type": ("it has to be a text", "write it in quotes"),
        "bool_type": ("it has to be true or false", "give one of them"),
        "bool_parsing": ("it has to be true or false", "give one of them"),
        "json_invalid": (f"this is no JSON: {about.get('error', 'it breaks off')}", "correct it there"),
        "recursion_loop": ("it is nested too deep", "give it flat"),
    }
    if kind in words:
        return words[kind]
    if kind.startswith(("float_", "int_", "decimal_")):
        return "it has to be a " + ("whole number" if kind.startswith("int_") else "number"), "give one"
    message = str(error["msg"]).removeprefix("Value error, ").removeprefix("Assertion failed, ")
    return message[:1].lower() + message[1:], "correct this field"


# What a document from outside may be nested at most: a plan is about a dozen deep.
DEEPEST = 100


def json_from(text: bytes | str, where: str, code: str) -> Any:
    """The value of a JSON text from outside.

    Raises BadInput with the place where it breaks, or for texts nested deeper than DEEPEST and characters
    nobody can keep.
    """
    try:
        value = json.loads(text)
    except RecursionError as deep:
        raise BadInput(code, where, "this is nested too deep", "give it flat") from deep
    except (ValueError, UnicodeDecodeError) as wrong:
        raise BadInput(
            code, where, f"this is no JSON: {wrong}", "choose another file, or correct it there"
        ) from wrong
    refuse_unkept(value, where, code)
    return value


def refuse_unkept(value: Any, where: str, code: str) -> None:
    """Refuse values nested deeper than DEEPEST, and texts with a NUL or half a character pair, which no
    database keeps.
    """
    waiting = [(value, "", 0)]
    while waiting:
        one, path, deep = waiting.pop()
        if deep > DEEPEST:
            raise BadInput(code, path or where, "this is nested too deep", "give it flat")
        if isinstance(one, dict):
            waiting += [(key, f"{path}/{key[:40]}", deep + 1) for key in one]
            waiting += [(each, f"{path}/{key[:40]}", deep + 1) for key, each in one.items()]
        elif isinstance(one, list):
            waiting += [(each, f"{path}/{i}", deep + 1) for i, each in enumerate(one)]
        elif isinstance(one, str) and ("\0" in one or any("\ud800" <= c <= "\udfff" for c in one)):
            raise BadInput(
                code,
                path.replace("\0", "?") or where,
                "a text holds a character that cannot be kept",
                "take it out",
            )
