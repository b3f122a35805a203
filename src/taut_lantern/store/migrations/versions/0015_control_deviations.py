"""deviations of control, and what matched it"""

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects import postgresql

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("control", sa.Column("sigma", postgresql.JSONB(), nullable=False, server_default="[]"))
    op.add_column("control", sa.Column("matched_by", sa.String(8), nullable=False, server_default=""))


def downgrade() -> None:
    op.drop_column("control", "matched_by")
    op.drop_column("control", "sigma")
