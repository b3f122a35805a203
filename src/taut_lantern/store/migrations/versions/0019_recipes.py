"""filters with their settings, kept under names; what a zone that is made by us was made for"""

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects import postgresql

revision = "0019"
down_revision = "0018"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("project", sa.Column("recipes", postgresql.JSONB(), nullable=False, server_default="[]"))
    op.add_column("zone", sa.Column("detail", postgresql.JSONB(), nullable=False, server_default="{}"))


def downgrade() -> None:
    op.drop_column("zone", "detail")
    op.drop_column("project", "recipes")
