"""pictures for the report, and whose report it is"""

from alembic import op
import sqlalchemy as sa

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("project", sa.Column("company", sa.String(200), nullable=False, server_default=""))
    op.create_table(
        "picture",
        sa.Column("id", sa.String(32), primary_key=True),
        sa.Column("project_id", sa.String(32), sa.ForeignKey("project.id"), nullable=False, index=True),
        sa.Column("version", sa.Integer(), nullable=False, server_default="1"),
        sa.Column("deleted", sa.Boolean(), nullable=False, server_default=sa.false()),
        sa.Column("caption", sa.String(300), nullable=False, server_default=""),
        sa.Column("logo", sa.Boolean(), nullable=False, server_default=sa.false()),
        sa.Column("kind", sa.String(8), nullable=False),
        sa.Column("wide", sa.Integer(), nullable=False),
        sa.Column("high", sa.Integer(), nullable=False),
        sa.Column("size", sa.Integer(), nullable=False),
        sa.Column("made_by", sa.String(120), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
    )


def downgrade() -> None:
    op.drop_table("picture")
    op.drop_column("project", "company")
