"""what is not geometry of a tile is a layer with a revision"""

from alembic import op
import sqlalchemy as sa

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "layer",
        sa.Column("station_id", sa.String(32), primary_key=True),
        sa.Column("first", sa.BigInteger(), primary_key=True),
        sa.Column("kind", sa.String(12), primary_key=True),
        sa.Column("revision", sa.Integer(), nullable=False),
        sa.Column("data", sa.LargeBinary(), nullable=False),
    )
    op.execute("ALTER TABLE layer ALTER COLUMN data SET STORAGE EXTERNAL")


def downgrade() -> None:
    raise NotImplementedError("an earlier version would show points without intensity and colour: restore a copy of the database instead")
