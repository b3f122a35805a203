"""measures that are kept as notes, and saved views"""

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects import postgresql

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def _row(*columns: sa.Column) -> list[sa.Column]:
    return [
        sa.Column("id", sa.String(32), primary_key=True),
        sa.Column("project_id", sa.String(32), sa.ForeignKey("project.id"), nullable=False, index=True),
        sa.Column("version", sa.Integer(), nullable=False, server_default="1"),
        sa.Column("deleted", sa.Boolean(), nullable=False, server_default=sa.false()),
        sa.Column("part_id", sa.String(32), nullable=True),
        sa.Column("T_part_base", postgresql.JSONB(), nullable=True),
        sa.Column("name", sa.String(120), nullable=False),
        *columns,
    ]


def upgrade() -> None:
    op.create_table(
        "note",
        *_row(
            sa.Column("kind", sa.String(12), nullable=False),
            sa.Column("points", postgresql.JSONB(), nullable=False),
            sa.Column("remark", sa.String(300), nullable=False, server_default=""),
            sa.Column("detail", postgresql.JSONB(), nullable=False, server_default="{}"),
        ),
    )
    op.create_table("saved_view", *_row(sa.Column("shows", postgresql.JSONB(), nullable=False)))


def downgrade() -> None:
    op.drop_table("saved_view")
    op.drop_table("note")
