"""All tests. Every finding made in them is one of the register of checks, or a refusal told as a finding."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from hypothesis import HealthCheck, settings

from pelvrak.core.checks import CHECKS
from pelvrak.core.findings import Finding

# On a busy machine making an example takes as long as it takes.
settings.register_profile("shared", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("shared")

# Where a process writes which codes it has raised, for the whole run's count of them.
_FOLDER = os.environ.get("PELVRAK_RAISED")
_raised: set[str] = set()
_made = Finding.__init__


def _noted(self: Finding, **given: Any) -> None:
    _made(self, **given)
    check = CHECKS.get(self.code)
    if check is None:
        # A refusal: an error, with what to do.
        assert self.severity == "error", f"{self.code} is no registered check"
        return
    assert self.severity in check.severities, (
        f"{self.code} is registered as {check.severities} and found as {self.severity}"
    )
    assert self.stage == check.stage, (
        f"{self.code} is registered for {check.stage} and found for {self.stage}"
    )
    if _FOLDER and self.code not in _raised:
        _raised.add(self.code)
        (Path(_FOLDER) / self.code).touch()


Finding.__init__ = _noted  # type: ignore[method-assign]
