"""What data ships with the program?"""

from __future__ import annotations

import json
from functools import cache
from importlib.resources import files
from typing import Any


@cache
def shelf(package: str, name: str) -> Any:
    """A JSON file that ships in one of the core's packages."""
    return json.loads(files(f"pelvrak.core.{package}").joinpath(name).read_text("utf-8"))
