"""questions with their answers, and what pairs propose kept for every later run"""

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects import postgresql

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "question",
        sa.Column("id", sa.String(32), primary_key=True),
        sa.Column("project_id", sa.String(32), sa.ForeignKey("project.id"), nullable=False, index=True),
        sa.Column("version", sa.Integer(), nullable=False, server_default="1"),
        sa.Column("deleted", sa.Boolean(), nullable=False, server_default=sa.false()),
        sa.Column("kind", sa.String(12), nullable=False),
        sa.Column("station", sa.String(32), nullable=False),
        sa.Column("other", sa.String(32), nullable=False),
        sa.Column("place", sa.Integer(), nullable=False, server_default="0"),
        sa.Column("readings", postgresql.JSONB(), nullable=False),
        sa.Column("places", postgresql.JSONB(), nullable=False),
        sa.Column("message", sa.String(400), nullable=False),
        sa.Column("answer", sa.String(12), nullable=False, server_default=""),
        sa.Column("answered_by", sa.String(120), nullable=False, server_default=""),
        sa.Column("answered_at", sa.DateTime(timezone=True), nullable=True),
    )
    op.create_table(
        "proposal",
        sa.Column("a", sa.String(32), primary_key=True),
        sa.Column("b", sa.String(32), primary_key=True),
        sa.Column("schema", sa.Integer(), nullable=False),
        sa.Column("data", sa.LargeBinary(), nullable=False),
    )


def downgrade() -> None:
    op.drop_table("proposal")
    op.drop_table("question")
