"""What has been uploaded: its bytes, and the part that was read from it."""

from __future__ import annotations

from functools import lru_cache

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.part import PartModel, unpacked
from pelvrak.server.db.models import PartUpload
from pelvrak.server.db.session import transaction
from pelvrak.server.db.store import DatabaseStore


def body_of(sha256: str | None, name: str) -> bytes:
    """The bytes of a file the plan names. Raises BadInput "billet.no_file"."""
    with transaction() as session:
        upload = session.get(PartUpload, sha256) if sha256 else None
        if upload is None:
            raise BadInput(
                "billet.no_file", "billet", f"{name} has not been uploaded", "choose the file again"
            )
        return upload.body


def model_of(key: str | None) -> PartModel | None:
    """The part kept under a result's key; None without a key, or where nothing is kept under it yet."""
    try:
        return None if key is None else _kept(key)
    except LookupError:
        return None


@lru_cache(maxsize=4)
def _kept(key: str) -> PartModel:
    # What is not there is not remembered: it may come.
    data = DatabaseStore().get(key, "part.npz")
    if data is None:
        raise LookupError(key)
    return unpacked(data)
