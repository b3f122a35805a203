"""nothing journaled is deleted; jobs are fenced; originals and projects lie in a bin"""

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects import postgresql

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None

OF_PROJECT = (
    "original", "station", "link", "sighting", "control", "placement", "solution", "edit", "crop_box", "section", "trace",
    "delivery", "job", "journal",
)
LOST = "An earlier version lost what this held when it was undone and done again: {what}"


def upgrade() -> None:
    flag = lambda name: sa.Column(name, sa.Boolean(), nullable=False, server_default=sa.false())  # noqa: E731
    for table in ("link", "sighting", "control", "placement", "edit", "crop_box", "trace"):
        op.add_column(table, flag("deleted"))
        op.alter_column(table, "deleted", server_default=None)
    for table in ("link", "sighting", "control"):
        op.add_column(table, sa.Column("by_hand", postgresql.JSONB(), nullable=False, server_default="[]"))
        op.alter_column(table, "by_hand", server_default=None)
    op.add_column("project", sa.Column("deleted_at", sa.DateTime(timezone=True)))
    op.execute("UPDATE project SET deleted_at = now() WHERE deleted")
    op.add_column("original", sa.Column("discarded_at", sa.DateTime(timezone=True)))
    op.add_column("chunk", sa.Column("sha256", sa.String(64), nullable=False, server_default=""))
    op.alter_column("chunk", "sha256", server_default=None)
    op.add_column("job", sa.Column("beat_at", sa.DateTime(timezone=True)))
    op.add_column("job", sa.Column("worker", sa.String(120), nullable=False, server_default=""))
    op.alter_column("job", "worker", server_default=None)
    op.create_table(
        "checkpoint",
        sa.Column("job_id", sa.String(32), primary_key=True),
        sa.Column("key", sa.String(200), primary_key=True),
        sa.Column("data", sa.LargeBinary(), nullable=False),
    )
    op.execute("ALTER TABLE checkpoint ALTER COLUMN data SET STORAGE EXTERNAL")

    # points, grids and marks hang on nothing; no row of a project is taken away by another
    for table, column in (("tile", "station_id"), ("grid", "station_id"), ("edit_delta", "edit_id")):
        op.drop_constraint(f"fk_{table}_{column}", table, type_="foreignkey")
    for table in OF_PROJECT:
        op.drop_constraint(f"fk_{table}_project_id", table, type_="foreignkey")
        op.create_foreign_key(f"fk_{table}_project_id", table, "project", ["project_id"], ["id"])

    # what people did by hand in earlier versions cannot be told from what runs did, but for links that are switched off
    # and sightings that are left out without a remark: those stay as they are
    op.execute("""UPDATE link SET by_hand = '["used"]' WHERE NOT used""")
    op.execute("""UPDATE sighting SET by_hand = '["used"]' WHERE used <> (remark = '')""")
    op.execute("""UPDATE control SET by_hand = '["role"]' WHERE role <> CASE WHEN remark ~* '\\mcheck\\M' THEN 'check' ELSE 'control' END""")

    op.add_column("station", sa.Column("twin", sa.Integer(), nullable=False, server_default="0"))
    op.alter_column("station", "twin", server_default=None)
    op.execute(
        """UPDATE station SET twin = n.k FROM (SELECT id, row_number() OVER (PARTITION BY original_id, scan_index ORDER BY points DESC, id) - 1
        AS k FROM station WHERE NOT deleted AND original_id IS NOT NULL) n WHERE n.id = station.id AND n.k > 0"""
    )
    # a part from before is told once, in words, where the undo of earlier versions has lost points or marks
    for table, what, broken in (
        ("station", "the points of the station ' || r.name || '; bring its file in again",
         "r.points <> (SELECT coalesce(sum(count), 0) FROM tile WHERE station_id = r.id)"),
        ("edit", "which points were deleted (' || r.title || '); delete them again",
         "r.count <> (SELECT coalesce(sum(count), 0) FROM edit_delta WHERE edit_id = r.id)"),
    ):
        title = LOST.format(what=what)
        op.execute(
            f"""INSERT INTO journal (project_id, at, actor, title, rows, network, undoable, undone)
            SELECT r.project_id, now(), 'Taut Lantern', '{title}', '[]', false, false, false FROM {table} r WHERE NOT r.deleted AND {broken}"""
        )
        op.execute(f"UPDATE {table} r SET deleted = true WHERE NOT r.deleted AND {broken}")
    # what was undone in an earlier version took its points with it: it can no longer be done again
    op.execute(
        """UPDATE journal j SET undoable = false WHERE undone AND EXISTS (SELECT 1 FROM jsonb_array_elements(j.rows) e
        WHERE e->>'table' IN ('station', 'edit') AND e->'before' = 'null'::jsonb)"""
    )
    op.execute("DELETE FROM chunk WHERE file_id NOT IN (SELECT id FROM original UNION SELECT id FROM delivery)")

    op.drop_constraint("uq_link_project_id_a_b_kind", "link", type_="unique")
    live = sa.text("NOT deleted")
    op.create_index("uq_link_live", "link", ["project_id", "a", "b", "kind"], unique=True, postgresql_where=live)
    op.create_index("uq_station_scan", "station", ["original_id", "scan_index", "twin"], unique=True, postgresql_where=live)
    op.drop_index("ix_tile_station_id", "tile")
    op.create_index("uq_tile_slice", "tile", ["station_id", "first"], unique=True)


def downgrade() -> None:
    raise NotImplementedError("an earlier version would delete rows again: restore a copy of the database instead")
