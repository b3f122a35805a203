"""where a picture lies below the field sketch"""

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects import postgresql

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("picture", sa.Column("sketch", postgresql.JSONB(), nullable=True))


def downgrade() -> None:
    op.drop_column("picture", "sketch")
