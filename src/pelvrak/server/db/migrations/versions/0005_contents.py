"""Results name their contents; each content is kept once. What was kept before is computed again."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    stamp = sa.DateTime(timezone=True)
    op.drop_table("result_piece")
    op.create_table(
        "result",
        sa.Column("key", sa.String(40), primary_key=True),
        sa.Column("step", sa.String(40), nullable=False),
        sa.Column("made", stamp, nullable=False, server_default=sa.func.now()),
        sa.Column("used", stamp, nullable=False, server_default=sa.func.now(), index=True),
    )
    op.create_table(
        "content",
        sa.Column("digest", sa.String(40), primary_key=True),
        sa.Column("size", sa.BigInteger, nullable=False),
        sa.Column("body", sa.LargeBinary, nullable=False),
    )
    op.create_table(
        "result_piece",
        sa.Column("key", sa.String(40), sa.ForeignKey("result.key", ondelete="CASCADE"), primary_key=True),
        sa.Column("piece", sa.String(40), primary_key=True),
        sa.Column("digest", sa.String(40), sa.ForeignKey("content.digest"), nullable=False, index=True),
    )
    op.execute("create sequence event_number")
    op.add_column("evaluation", sa.Column("keys", postgresql.ARRAY(sa.String(40))))
    # Parts and reports are of earlier versions of their steps: the server makes them again when it starts.
