"""The library of fixtures; holdings become lists of fixtures in the order they are built up."""

from typing import Any

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None

# Vises of before, with the jaws they had built in: id, thickness, heights of the set of parallels that goes
# with them.
JAWS = {"bench-125": ("hard-125", 18.0), "bench-160": ("hard-160", 22.0), "low-100": ("hard-100", 14.0)}


def as_list(hold: dict[str, Any]) -> dict[str, Any]:
    """A holding of the first form (one vise, or nothing) as a list of fixtures."""
    if hold.get("kind") != "vise":
        return {} if "kind" in hold else hold
    jaws, thick = JAWS.get(hold["vise"], ("hard-160", 22.0))
    closes_y = hold.get("jaws_close_along", "y") == "y"
    x, y = hold.get("table_x", 450.0), hold.get("table_y", 260.0)
    items: list[dict[str, Any]] = [
        {
            "id": "vise",
            "fixture": hold["vise"],
            "x": x if closes_y else x - thick,
            "y": y + thick if closes_y else y,
            "turn_deg": 0.0 if closes_y else 90.0,
        },
        {"id": "jaws", "fixture": jaws, "on": "vise"},
    ]
    height = hold.get("parallels", 30.0)
    if height > 0:
        items.append({"id": "parallels", "fixture": "par-150x8", "on": "vise", "height": height})
    return {"items": items, "work": {"x": hold.get("along", 0.0)}}


def upgrade() -> None:
    op.create_table(
        "fixture_row",
        sa.Column("place", sa.Integer, primary_key=True),
        sa.Column("fixture", postgresql.JSONB, nullable=False),
    )
    plans = sa.table(
        "revision", sa.column("project_id"), sa.column("number"), sa.column("plan", postgresql.JSONB)
    )
    connection = op.get_bind()
    for row in connection.execute(sa.select(plans)).all():
        plan = {
            **row.plan,
            "setups": [{**s, "hold": as_list(s.get("hold", {}))} for s in row.plan.get("setups", [])],
        }
        if plan != row.plan:
            connection.execute(
                plans.update()
                .where(plans.c.project_id == row.project_id, plans.c.number == row.number)
                .values(plan=plan)
            )
