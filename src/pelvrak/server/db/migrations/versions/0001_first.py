"""First tables and the job queue's own."""

import sqlalchemy as sa
from alembic import op
from procrastinate.schema import SchemaManager
from sqlalchemy.dialects import postgresql

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    stamp = sa.DateTime(timezone=True)
    op.create_table(
        "part_upload",
        sa.Column("sha256", sa.String(64), primary_key=True),
        sa.Column("name", sa.Text, nullable=False),
        sa.Column("body", sa.LargeBinary, nullable=False),
        sa.Column("status", sa.String(12), nullable=False),
        sa.Column("key", sa.String(40)),
        sa.Column("problem", postgresql.JSONB),
        sa.Column("created", stamp, nullable=False),
    )
    op.create_table(
        "project",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("name", sa.Text, nullable=False),
        sa.Column("head", sa.Integer, nullable=False),
        sa.Column("last", sa.Integer, nullable=False),
        sa.Column("created", stamp, nullable=False),
    )
    op.create_table(
        "revision",
        sa.Column(
            "project_id", sa.Integer, sa.ForeignKey("project.id", ondelete="CASCADE"), primary_key=True
        ),
        sa.Column("number", sa.Integer, primary_key=True),
        sa.Column("parent", sa.Integer),
        sa.Column("redo", sa.Integer),
        sa.Column("what", sa.Text, nullable=False),
        sa.Column("plan", postgresql.JSONB, nullable=False),
        sa.Column("created", stamp, nullable=False),
    )
    op.create_table(
        "evaluation",
        sa.Column("id", sa.BigInteger, primary_key=True),
        sa.Column(
            "project_id",
            sa.Integer,
            sa.ForeignKey("project.id", ondelete="CASCADE"),
            nullable=False,
            index=True,
        ),
        sa.Column("revision", sa.Integer, nullable=False),
        sa.Column("status", sa.String(12), nullable=False),
        sa.Column("share", sa.Float, nullable=False),
        sa.Column("what", sa.Text, nullable=False),
        sa.Column("tries", sa.Integer, nullable=False),
        sa.Column("stop", sa.Boolean, nullable=False),
        sa.Column("beat", stamp, nullable=False),
        sa.Column("report", postgresql.JSONB),
        sa.Column("stills", postgresql.JSONB),
        sa.Column("problem", postgresql.JSONB),
    )
    op.create_table(
        "result_piece",
        sa.Column("key", sa.String(40), primary_key=True),
        sa.Column("piece", sa.String(40), primary_key=True),
        sa.Column("body", sa.LargeBinary, nullable=False),
    )
    op.get_bind().exec_driver_sql(SchemaManager.get_schema().replace("%", "%%"))


def downgrade() -> None:
    for table in ("result_piece", "evaluation", "revision", "project", "part_upload"):
        op.drop_table(table)
