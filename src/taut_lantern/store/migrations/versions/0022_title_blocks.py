"""customers' title blocks, pictures pinned to drawings, and the height of their letters"""

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects import postgresql

revision = "0022"
down_revision = "0021"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "title_block",
        sa.Column("id", sa.String(32), primary_key=True),
        sa.Column("project_id", sa.String(32), sa.ForeignKey("project.id"), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False, server_default="1"),
        sa.Column("deleted", sa.Boolean(), nullable=False, server_default=sa.false()),
        sa.Column("name", sa.String(120), nullable=False),
        sa.Column("body", postgresql.JSONB(), nullable=False),
    )
    op.create_index("ix_title_block_project_id", "title_block", ["project_id"])
    op.add_column("project", sa.Column("letters", sa.Float(), nullable=False, server_default="0.15"))
    op.add_column("picture", sa.Column("pinned", sa.Boolean(), nullable=False, server_default=sa.false()))


def downgrade() -> None:
    op.drop_column("picture", "pinned")
    op.drop_column("project", "letters")
    op.drop_table("title_block")
