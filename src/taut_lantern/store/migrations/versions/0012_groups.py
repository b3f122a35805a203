"""groups of stations, one within another; what was held before is a group that is held"""

from alembic import op
import sqlalchemy as sa

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "station_group",
        sa.Column("id", sa.String(32), primary_key=True),
        sa.Column("project_id", sa.String(32), sa.ForeignKey("project.id"), nullable=False, index=True),
        sa.Column("version", sa.Integer(), nullable=False, server_default="1"),
        sa.Column("deleted", sa.Boolean(), nullable=False, server_default=sa.false()),
        sa.Column("name", sa.String(120), nullable=False),
        sa.Column("parent_id", sa.String(32), nullable=True),
        sa.Column("place", sa.Integer(), nullable=False, server_default="0"),
    )
    op.add_column("station", sa.Column("group_id", sa.String(32), nullable=True))
    op.add_column("body", sa.Column("group_id", sa.String(32), nullable=True))
    # a group of the same id for each body, out of sight where the body is: undo of its release finds both
    op.execute("INSERT INTO station_group (id, project_id, name, deleted) SELECT id, project_id, name, deleted FROM body")
    op.execute("UPDATE body SET group_id = id")
    op.execute(
        """UPDATE station s SET group_id = b.id FROM body b
        WHERE NOT b.deleted AND b.project_id = s.project_id AND jsonb_exists(b.members, s.id)"""
    )


def downgrade() -> None:
    op.drop_column("body", "group_id")
    op.drop_column("station", "group_id")
    op.drop_table("station_group")
