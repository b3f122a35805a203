"""parts with a stored datum, targets with ids, frames with unit and provenance, bodies"""

import json
import uuid

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects import postgresql

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None

EYE = [1.0, 0, 0, 0, 0, 1.0, 0, 0, 0, 0, 1.0, 0, 0, 0, 0, 1.0]
ID = lambda name, nullable=True: sa.Column(name, sa.String(32), nullable=nullable)  # noqa: E731
JSON = lambda name, nullable=False: sa.Column(name, postgresql.JSONB(), nullable=nullable)  # noqa: E731


def upgrade() -> None:
    for table, columns in {
        "part": [sa.Column("name", sa.String(120), nullable=False), sa.Column("place", sa.Integer(), nullable=False), ID("datum_station", False), JSON("datum_pose")],
        "body": [sa.Column("name", sa.String(120), nullable=False), sa.Column("held", sa.Boolean(), nullable=False), JSON("members")],
        "target": [
            sa.Column("name", sa.String(120), nullable=False), sa.Column("kind", sa.String(12), nullable=False),
            sa.Column("radius", sa.Float(), nullable=False),
        ],
    }.items():
        op.create_table(
            table,
            sa.Column("id", sa.String(32), primary_key=True),
            sa.Column("version", sa.Integer(), nullable=False),
            sa.Column("deleted", sa.Boolean(), nullable=False),
            sa.Column("project_id", sa.String(32), sa.ForeignKey("project.id"), nullable=False, index=True),
            *columns,
        )
    op.create_index("uq_target_live", "target", ["project_id", "name"], unique=True, postgresql_where=sa.text("NOT deleted"))
    op.add_column("station", ID("part_id"))
    op.add_column("sighting", ID("target_id"))
    op.add_column("control", ID("target_id"))
    for table in ("crop_box", "section"):
        op.add_column(table, ID("part_id"))
        op.add_column(table, JSON("T_part_base", True))
    unit = lambda: sa.Column("unit", sa.String(8), nullable=False, server_default="m")  # noqa: E731
    op.add_column("control", unit())
    op.alter_column("control", "unit", server_default=None)
    op.rename_table("placement", "frame")
    for old, new in (("pk_placement", "pk_frame"), ("ix_placement_project_id", "ix_frame_project_id")):
        op.execute(f'ALTER INDEX "{old}" RENAME TO "{new}"')
    op.execute('ALTER TABLE frame RENAME CONSTRAINT "fk_placement_project_id" TO "fk_frame_project_id"')
    op.alter_column("frame", "T_frame_project", new_column_name="T_frame_part")
    op.drop_column("frame", "network_revision")
    op.add_column("frame", ID("part_id"))
    op.add_column("frame", unit())
    op.add_column("frame", sa.Column("made_from", postgresql.JSONB(), nullable=False, server_default="{}"))
    op.add_column("frame", sa.Column("revision", sa.Integer(), nullable=False, server_default="1"))
    for column in ("unit", "made_from", "revision"):
        op.alter_column("frame", column, server_default=None)
    op.add_column("job", sa.Column("actor", sa.String(120), nullable=False, server_default="you"))
    op.alter_column("job", "actor", server_default=None)
    c = op.get_bind()
    for (project,) in c.execute(sa.text("SELECT id FROM project")).all():
        _parts(c, project)
        _targets(c, project)
    op.drop_column("sighting", "target")
    op.drop_column("control", "target")


def _parts(c: sa.Connection, project: str) -> None:
    """A part for each set of stations that links in use connect; what was drawn and placed belongs to the largest."""
    own = {"p": project}
    rows = c.execute(sa.text("SELECT id, pose FROM station WHERE project_id = :p AND NOT deleted ORDER BY place, name"), own).all()
    poses = {x: pose for x, pose in rows}
    root = {x: x for x in poses}

    def top(x: str) -> str:
        while root[x] != x:
            x = root[x]
        return x

    for a, b in c.execute(sa.text("SELECT a, b FROM link WHERE project_id = :p AND used AND NOT deleted"), own).all():
        if a in root and b in root:
            root[top(a)] = top(b)
    groups: dict[str, list[str]] = {}
    for x in poses:
        groups.setdefault(top(x), []).append(x)
    main = None
    for k, group in enumerate(sorted(groups.values(), key=lambda g: -len(g))):
        part = uuid.uuid4().hex
        main = main or part
        values = {"id": part, "p": project, "name": f"Part {k + 1}" if len(group) > 1 else "", "place": k, "station": group[0], "pose": json.dumps(poses[group[0]] or EYE)}
        c.execute(
            sa.text(
                "INSERT INTO part (id, version, deleted, project_id, name, place, datum_station, datum_pose)"
                " VALUES (:id, 1, false, :p, :name, :place, :station, CAST(:pose AS jsonb))"
            ),
            values,
        )
        c.execute(sa.text("UPDATE station SET part_id = :part WHERE id = ANY(:ids)"), {"part": part, "ids": group})
    for table in ("crop_box", "section", "frame"):
        c.execute(sa.text(f"UPDATE {table} SET part_id = :part WHERE project_id = :p"), {"part": main, **own})


def _targets(c: sa.Connection, project: str) -> None:
    """A target for each name that a sighting or a control point has."""
    own = {"p": project}
    q = """SELECT target, min(kind), max(radius) FROM (
        SELECT target, kind, radius FROM sighting WHERE project_id = :p AND target <> '' UNION ALL
        SELECT target, 'sphere', 0 FROM control WHERE project_id = :p AND target IS NOT NULL AND target <> '') t GROUP BY target"""
    for name, kind, radius in c.execute(sa.text(q), own).all():
        values = {"id": uuid.uuid4().hex, "name": name, "kind": kind, "radius": radius, **own}
        c.execute(
            sa.text(
                "INSERT INTO target (id, version, deleted, project_id, name, kind, radius) VALUES (:id, 1, false, :p, :name, :kind, :radius)"
            ),
            values,
        )
        for table in ("sighting", "control"):
            c.execute(sa.text(f"UPDATE {table} SET target_id = :id WHERE project_id = :p AND target = :name"), values)


def downgrade() -> None:
    raise NotImplementedError("an earlier version would lay parts on each other: restore a copy of the database instead")
