"""sets of points on their own: what edits delete, what zones hold, what somebody has selected; several crop boxes at once"""

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects import postgresql

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.rename_table("edit_delta", "point_set")
    op.alter_column("point_set", "edit_id", new_column_name="set_id")
    op.add_column("point_set", sa.Column("project_id", sa.String(32)))
    op.execute("UPDATE point_set p SET project_id = e.project_id FROM edit e WHERE e.id = p.set_id")
    op.add_column("edit", sa.Column("points", sa.String(32), nullable=False, server_default=""))
    op.execute("UPDATE edit SET points = id")
    op.add_column("edit", sa.Column("does", sa.String(8), nullable=False, server_default="delete"))
    op.create_table(
        "zone",
        sa.Column("id", sa.String(32), primary_key=True),
        sa.Column("version", sa.Integer(), nullable=False, server_default="1"),
        sa.Column("deleted", sa.Boolean(), nullable=False, server_default=sa.false()),
        sa.Column("project_id", sa.String(32), sa.ForeignKey("project.id"), nullable=False),
        sa.Column("parent_id", sa.String(32)),
        sa.Column("name", sa.String(120), nullable=False),
        sa.Column("kind", sa.String(8), nullable=False, server_default="zone"),
        sa.Column("hue", sa.Integer(), nullable=False, server_default="0"),
        sa.Column("shown", sa.Boolean(), nullable=False, server_default=sa.true()),
        sa.Column("locked", sa.Boolean(), nullable=False, server_default=sa.false()),
        sa.Column("apart", sa.Boolean(), nullable=False, server_default=sa.false()),
        sa.Column("points", sa.String(32), nullable=False),
        sa.Column("count", sa.BigInteger(), nullable=False),
        sa.Column("place", sa.Integer(), nullable=False, server_default="0"),
    )
    op.create_index("ix_zone_project_id", "zone", ["project_id"])
    op.create_table(
        "selection",
        sa.Column("project_id", sa.String(32), sa.ForeignKey("project.id"), primary_key=True),
        sa.Column("actor", sa.String(120), primary_key=True),
        sa.Column("revision", sa.BigInteger(), nullable=False, server_default="0"),
        sa.Column("steps", postgresql.JSONB(), nullable=False, server_default="[]"),
    )
    op.add_column("project", sa.Column("classes", postgresql.JSONB(), nullable=False, server_default="[]"))
    op.add_column("crop_box", sa.Column("outside", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column("crop_box", sa.Column("outline", postgresql.JSONB()))


def downgrade() -> None:
    op.drop_column("crop_box", "outline")
    op.drop_column("crop_box", "outside")
    op.drop_column("project", "classes")
    op.drop_table("selection")
    op.drop_table("zone")
    op.drop_column("edit", "does")
    op.drop_column("edit", "points")
    op.drop_column("point_set", "project_id")
    op.alter_column("point_set", "set_id", new_column_name="edit_id")
    op.rename_table("point_set", "edit_delta")
