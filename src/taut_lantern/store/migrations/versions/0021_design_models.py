"""design models beside the cloud, their faces, and what the cloud leaves them by"""

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects import postgresql

revision = "0021"
down_revision = "0020"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "design_model",
        sa.Column("id", sa.String(32), primary_key=True),
        sa.Column("project_id", sa.String(32), sa.ForeignKey("project.id"), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False, server_default="1"),
        sa.Column("deleted", sa.Boolean(), nullable=False, server_default=sa.false()),
        sa.Column("part_id", sa.String(32), nullable=True),
        sa.Column("T_part_base", postgresql.JSONB(), nullable=True),
        sa.Column("T_base_model", postgresql.JSONB(), nullable=False),
        sa.Column("name", sa.String(120), nullable=False),
        sa.Column("shown", sa.Boolean(), nullable=False, server_default=sa.true()),
        sa.Column("detail", postgresql.JSONB(), nullable=False),
    )
    op.create_index("ix_design_model_project_id", "design_model", ["project_id"])
    op.create_table(
        "model_mesh",
        sa.Column("model_id", sa.String(32), primary_key=True),
        sa.Column("project_id", sa.String(32), nullable=False),
        sa.Column("data", sa.LargeBinary(), nullable=False),
        sa.Column("compared", postgresql.JSONB(), nullable=True),
    )
    op.create_index("ix_model_mesh_project_id", "model_mesh", ["project_id"])
    op.execute("ALTER TABLE model_mesh ALTER COLUMN data SET STORAGE EXTERNAL")


def downgrade() -> None:
    op.drop_table("model_mesh")
    op.drop_table("design_model")
