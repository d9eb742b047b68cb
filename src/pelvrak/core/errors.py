"""How does the core refuse bad input?"""


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

    def told(self) -> dict[str, str]:
        """The refusal in its four pieces."""
        return {"code": self.code, "where": self.where, "what": self.what, "mend": self.mend}


class Stopped(Exception):
    """The user asked a running computation to stop."""
