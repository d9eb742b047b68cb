"""Signs of life of parts being read; what a line of the project list shows; libraries with revisions;
archived projects.
"""

from typing import Any

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def line_of(report: dict[str, Any] | None) -> dict[str, Any] | None:
    """What the list shows of a report."""
    if not report:
        return None
    setups, left = report.get("setups", []), report.get("comparison")
    return {
        "positions": sum(len(one.get("positions") or []) for one in setups),
        "registers": sum(len(one.get("offsets") or []) for one in setups),
        "time_s": sum(one["time_s"] for one in setups) if setups else None,
        "left_mm3": left["left_volume_mm3"] if left else None,
    }


def upgrade() -> None:
    stamp = sa.DateTime(timezone=True)
    op.add_column("part_upload", sa.Column("beat", stamp, nullable=False, server_default=sa.func.now()))
    op.add_column("part_upload", sa.Column("tries", sa.Integer, nullable=False, server_default="0"))
    op.add_column("evaluation", sa.Column("line", postgresql.JSONB))
    op.add_column("project", sa.Column("archived", sa.Boolean, nullable=False, server_default=sa.false()))
    op.create_index("evaluation_newest", "evaluation", ["project_id", "status", "revision", "id"])
    op.create_table(
        "library",
        sa.Column("name", sa.String(20), primary_key=True),
        sa.Column("revision", sa.Integer, nullable=False),
    )
    reports = sa.table(
        "evaluation",
        sa.column("id"),
        sa.column("report", postgresql.JSONB),
        sa.column("line", postgresql.JSONB),
    )
    connection = op.get_bind()
    for (number,) in connection.execute(sa.select(reports.c.id).where(reports.c.report.is_not(None))).all():
        report = connection.execute(sa.select(reports.c.report).where(reports.c.id == number)).scalar_one()
        connection.execute(reports.update().where(reports.c.id == number).values(line=line_of(report)))
