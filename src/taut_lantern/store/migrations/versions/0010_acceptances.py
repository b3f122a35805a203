"""what somebody accepted: a link, or the network as a whole"""

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects import postgresql

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "acceptance",
        sa.Column("id", sa.String(32), primary_key=True),
        sa.Column("project_id", sa.String(32), sa.ForeignKey("project.id"), nullable=False, index=True),
        sa.Column("version", sa.Integer(), nullable=False, server_default="1"),
        sa.Column("deleted", sa.Boolean(), nullable=False, server_default=sa.false()),
        sa.Column("link_id", sa.String(32), nullable=True),
        sa.Column("accepted_by", sa.String(120), nullable=False),
        sa.Column("accepted_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("remark", sa.String(1000), nullable=False, server_default=""),
        sa.Column("state", postgresql.JSONB(), nullable=False),
        sa.Column("withdrawn_by", sa.String(120), nullable=False, server_default=""),
    )


def downgrade() -> None:
    op.drop_table("acceptance")
