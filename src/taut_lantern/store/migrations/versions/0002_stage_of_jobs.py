"""when a job's running stage began"""

from alembic import op
import sqlalchemy as sa

revision = '0002'
down_revision = '0001'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('job', sa.Column('stage_at', sa.DateTime(timezone=True), nullable=True))
