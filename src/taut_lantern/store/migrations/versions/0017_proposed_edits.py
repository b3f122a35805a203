"""what filters found: edits that nobody has said yes to yet"""

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects import postgresql

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("edit", sa.Column("kind", sa.String(12), nullable=False, server_default="hand"))
    op.add_column("edit", sa.Column("proposed", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column("edit", sa.Column("detail", postgresql.JSONB(), nullable=False, server_default="{}"))


def downgrade() -> None:
    op.drop_column("edit", "detail")
    op.drop_column("edit", "proposed")
    op.drop_column("edit", "kind")
