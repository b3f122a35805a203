"""files that were let go of: by whom, when and why"""

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects import postgresql

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    for table in ("original", "delivery"):
        op.add_column(table, sa.Column("let_go", postgresql.JSONB()))


def downgrade() -> None:
    for table in ("original", "delivery"):
        op.drop_column(table, "let_go")
