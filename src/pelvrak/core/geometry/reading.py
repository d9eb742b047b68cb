"""The protected process: what every kind of reader does around its work. Used only by processes that `protected` starts."""

from __future__ import annotations

import json
import os
import resource
import sys
from collections.abc import Callable
from pathlib import Path

from pelvrak.core.errors import BadInput, SeveralSolids
from pelvrak.core.geometry.protected import REFUSED, SEVERAL


def serve(read: Callable[[bytes, str, list[str]], bytes]) -> None:
    """Do one reading by the words of the command line, and end the process.

    read: takes the file's bytes, its name and further words, and gives what is left for the process that asked.
    """
    memory, source, target, name, *words = sys.argv[1:]
    resource.setrlimit(resource.RLIMIT_AS, (int(memory), int(memory)))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    code = 0
    try:
        Path(target).write_bytes(read(Path(source).read_bytes(), name, words))
    except SeveralSolids as several:
        Path(target).write_text(json.dumps(several.choices))
        code = SEVERAL
    except BadInput as bad:
        print(json.dumps(bad.told()), file=sys.stderr)
        code = REFUSED
    except MemoryError:
        print("MemoryError", file=sys.stderr)
        code = 1
    # The interpreter's own ending after large libraries takes as long as reading a small part.
    sys.stderr.flush()
    os._exit(code)
