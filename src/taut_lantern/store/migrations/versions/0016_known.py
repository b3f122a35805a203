"""what is known beside the scans: tapes between targets, plumb walls"""

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects import postgresql

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "known",
        sa.Column("id", sa.String(32), primary_key=True),
        sa.Column("project_id", sa.String(32), sa.ForeignKey("project.id"), nullable=False, index=True),
        sa.Column("version", sa.Integer(), nullable=False, server_default="1"),
        sa.Column("deleted", sa.Boolean(), nullable=False, server_default=sa.false()),
        sa.Column("kind", sa.String(8), nullable=False),
        sa.Column("name", sa.String(120), nullable=False),
        sa.Column("target_a", sa.String(32), nullable=True),
        sa.Column("target_b", sa.String(32), nullable=True),
        sa.Column("station_id", sa.String(32), nullable=True),
        sa.Column("normal", postgresql.JSONB(), nullable=False, server_default="[]"),
        sa.Column("at", postgresql.JSONB(), nullable=False, server_default="[]"),
        sa.Column("value", sa.Float(), nullable=False, server_default="0"),
        sa.Column("sigma", sa.Float(), nullable=False),
        sa.Column("used", sa.Boolean(), nullable=False, server_default=sa.true()),
    )


def downgrade() -> None:
    op.drop_table("known")
