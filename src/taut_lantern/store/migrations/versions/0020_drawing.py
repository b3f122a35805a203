"""what a trace is beside its points; layers of a project's drawing; sheets"""

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects import postgresql

revision = "0020"
down_revision = "0019"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("trace", sa.Column("shape", postgresql.JSONB(), nullable=False, server_default="{}"))
    op.add_column("project", sa.Column("layers", postgresql.JSONB(), nullable=False, server_default="[]"))
    op.alter_column("section", "kind", type_=sa.String(12))
    op.create_table(
        "sheet",
        sa.Column("id", sa.String(32), primary_key=True),
        sa.Column("project_id", sa.String(32), sa.ForeignKey("project.id"), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False, server_default="1"),
        sa.Column("deleted", sa.Boolean(), nullable=False, server_default=sa.false()),
        sa.Column("name", sa.String(120), nullable=False),
        sa.Column("params", postgresql.JSONB(), nullable=False),
    )
    op.create_index("ix_sheet_project_id", "sheet", ["project_id"])


def downgrade() -> None:
    op.drop_table("sheet")
    op.alter_column("section", "kind", type_=sa.String(8))
    op.drop_column("project", "layers")
    op.drop_column("trace", "shape")
