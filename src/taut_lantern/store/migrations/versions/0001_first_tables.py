"""first tables"""

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects import postgresql

revision = '0001'
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table('chunk',
    sa.Column('file_id', sa.String(length=32), nullable=False),
    sa.Column('offset', sa.BigInteger(), nullable=False),
    sa.Column('data', sa.LargeBinary(), nullable=False),
    sa.PrimaryKeyConstraint('file_id', 'offset', name=op.f('pk_chunk'))
    )
    op.create_table('project',
    sa.Column('name', sa.String(length=300), nullable=False),
    sa.Column('unit', sa.String(length=8), nullable=False),
    sa.Column('profile', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('active_frame', sa.String(length=40), nullable=False),
    sa.Column('network_revision', sa.Integer(), nullable=False),
    sa.Column('created_at', sa.DateTime(timezone=True), nullable=False),
    sa.Column('demo', sa.Boolean(), nullable=False),
    sa.Column('deleted', sa.Boolean(), nullable=False),
    sa.Column('id', sa.String(length=32), nullable=False),
    sa.Column('version', sa.Integer(), nullable=False),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_project'))
    )
    op.create_table('control',
    sa.Column('project_id', sa.String(length=32), nullable=False),
    sa.Column('name', sa.String(length=120), nullable=False),
    sa.Column('enh', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('role', sa.String(length=8), nullable=False),
    sa.Column('remark', sa.String(length=200), nullable=False),
    sa.Column('target', sa.String(length=120), nullable=True),
    sa.Column('id', sa.String(length=32), nullable=False),
    sa.Column('version', sa.Integer(), nullable=False),
    sa.ForeignKeyConstraint(['project_id'], ['project.id'], name=op.f('fk_control_project_id'), ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_control'))
    )
    op.create_index(op.f('ix_control_project_id'), 'control', ['project_id'], unique=False)
    op.create_table('crop_box',
    sa.Column('project_id', sa.String(length=32), nullable=False),
    sa.Column('name', sa.String(length=120), nullable=False),
    sa.Column('centre', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('half', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('yaw', sa.Double(), nullable=False),
    sa.Column('active', sa.Boolean(), nullable=False),
    sa.Column('id', sa.String(length=32), nullable=False),
    sa.Column('version', sa.Integer(), nullable=False),
    sa.ForeignKeyConstraint(['project_id'], ['project.id'], name=op.f('fk_crop_box_project_id'), ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_crop_box'))
    )
    op.create_index(op.f('ix_crop_box_project_id'), 'crop_box', ['project_id'], unique=False)
    op.create_table('delivery',
    sa.Column('id', sa.String(length=32), nullable=False),
    sa.Column('project_id', sa.String(length=32), nullable=False),
    sa.Column('kind', sa.String(length=12), nullable=False),
    sa.Column('name', sa.String(length=300), nullable=False),
    sa.Column('params', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('size', sa.BigInteger(), nullable=False),
    sa.Column('sha256', sa.String(length=64), nullable=False),
    sa.Column('journal_at', sa.BigInteger(), nullable=False),
    sa.Column('created_at', sa.DateTime(timezone=True), nullable=False),
    sa.ForeignKeyConstraint(['project_id'], ['project.id'], name=op.f('fk_delivery_project_id'), ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_delivery'))
    )
    op.create_index(op.f('ix_delivery_project_id'), 'delivery', ['project_id'], unique=False)
    op.create_table('edit',
    sa.Column('project_id', sa.String(length=32), nullable=False),
    sa.Column('title', sa.String(length=300), nullable=False),
    sa.Column('count', sa.BigInteger(), nullable=False),
    sa.Column('active', sa.Boolean(), nullable=False),
    sa.Column('place', sa.Integer(), nullable=False),
    sa.Column('id', sa.String(length=32), nullable=False),
    sa.Column('version', sa.Integer(), nullable=False),
    sa.ForeignKeyConstraint(['project_id'], ['project.id'], name=op.f('fk_edit_project_id'), ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_edit'))
    )
    op.create_index(op.f('ix_edit_project_id'), 'edit', ['project_id'], unique=False)
    op.create_table('job',
    sa.Column('id', sa.String(length=32), nullable=False),
    sa.Column('project_id', sa.String(length=32), nullable=False),
    sa.Column('kind', sa.String(length=24), nullable=False),
    sa.Column('title', sa.String(length=400), nullable=False),
    sa.Column('params', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('state', sa.String(length=12), nullable=False),
    sa.Column('stage', sa.String(length=200), nullable=False),
    sa.Column('done', sa.BigInteger(), nullable=False),
    sa.Column('total', sa.BigInteger(), nullable=False),
    sa.Column('attempts', sa.Integer(), nullable=False),
    sa.Column('cancel', sa.Boolean(), nullable=False),
    sa.Column('error', postgresql.JSONB(astext_type=sa.Text()), nullable=True),
    sa.Column('result', postgresql.JSONB(astext_type=sa.Text()), nullable=True),
    sa.Column('created_at', sa.DateTime(timezone=True), nullable=False),
    sa.Column('started_at', sa.DateTime(timezone=True), nullable=True),
    sa.Column('ended_at', sa.DateTime(timezone=True), nullable=True),
    sa.ForeignKeyConstraint(['project_id'], ['project.id'], name=op.f('fk_job_project_id'), ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_job'))
    )
    op.create_index(op.f('ix_job_project_id'), 'job', ['project_id'], unique=False)
    op.create_index(op.f('ix_job_state'), 'job', ['state'], unique=False)
    op.create_table('journal',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('project_id', sa.String(length=32), nullable=False),
    sa.Column('at', sa.DateTime(timezone=True), nullable=False),
    sa.Column('actor', sa.String(length=120), nullable=False),
    sa.Column('title', sa.Text(), nullable=False),
    sa.Column('rows', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('network', sa.Boolean(), nullable=False),
    sa.Column('undoable', sa.Boolean(), nullable=False),
    sa.Column('undone', sa.Boolean(), nullable=False),
    sa.ForeignKeyConstraint(['project_id'], ['project.id'], name=op.f('fk_journal_project_id'), ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_journal'))
    )
    op.create_index(op.f('ix_journal_project_id'), 'journal', ['project_id'], unique=False)
    op.create_table('link',
    sa.Column('project_id', sa.String(length=32), nullable=False),
    sa.Column('a', sa.String(length=32), nullable=False),
    sa.Column('b', sa.String(length=32), nullable=False),
    sa.Column('kind', sa.String(length=12), nullable=False),
    sa.Column('used', sa.Boolean(), nullable=False),
    sa.Column('T_a_b', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('covariance', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('evidence', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('id', sa.String(length=32), nullable=False),
    sa.Column('version', sa.Integer(), nullable=False),
    sa.ForeignKeyConstraint(['project_id'], ['project.id'], name=op.f('fk_link_project_id'), ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_link')),
    sa.UniqueConstraint('project_id', 'a', 'b', 'kind', name=op.f('uq_link_project_id_a_b_kind'))
    )
    op.create_index(op.f('ix_link_project_id'), 'link', ['project_id'], unique=False)
    op.create_table('original',
    sa.Column('id', sa.String(length=32), nullable=False),
    sa.Column('project_id', sa.String(length=32), nullable=False),
    sa.Column('name', sa.String(length=300), nullable=False),
    sa.Column('size', sa.BigInteger(), nullable=False),
    sa.Column('received', sa.BigInteger(), nullable=False),
    sa.Column('sha256', sa.String(length=64), nullable=False),
    sa.Column('state', sa.String(length=12), nullable=False),
    sa.Column('reading', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('created_at', sa.DateTime(timezone=True), nullable=False),
    sa.ForeignKeyConstraint(['project_id'], ['project.id'], name=op.f('fk_original_project_id'), ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_original'))
    )
    op.create_index(op.f('ix_original_project_id'), 'original', ['project_id'], unique=False)
    op.create_table('placement',
    sa.Column('project_id', sa.String(length=32), nullable=False),
    sa.Column('name', sa.String(length=120), nullable=False),
    sa.Column('kind', sa.String(length=12), nullable=False),
    sa.Column('T_frame_project', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('detail', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('network_revision', sa.Integer(), nullable=False),
    sa.Column('active', sa.Boolean(), nullable=False),
    sa.Column('id', sa.String(length=32), nullable=False),
    sa.Column('version', sa.Integer(), nullable=False),
    sa.ForeignKeyConstraint(['project_id'], ['project.id'], name=op.f('fk_placement_project_id'), ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_placement'))
    )
    op.create_index(op.f('ix_placement_project_id'), 'placement', ['project_id'], unique=False)
    op.create_table('section',
    sa.Column('project_id', sa.String(length=32), nullable=False),
    sa.Column('name', sa.String(length=120), nullable=False),
    sa.Column('kind', sa.String(length=8), nullable=False),
    sa.Column('params', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('deleted', sa.Boolean(), nullable=False),
    sa.Column('id', sa.String(length=32), nullable=False),
    sa.Column('version', sa.Integer(), nullable=False),
    sa.ForeignKeyConstraint(['project_id'], ['project.id'], name=op.f('fk_section_project_id'), ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_section'))
    )
    op.create_index(op.f('ix_section_project_id'), 'section', ['project_id'], unique=False)
    op.create_table('sighting',
    sa.Column('project_id', sa.String(length=32), nullable=False),
    sa.Column('station_id', sa.String(length=32), nullable=False),
    sa.Column('target', sa.String(length=120), nullable=False),
    sa.Column('kind', sa.String(length=12), nullable=False),
    sa.Column('radius', sa.Double(), nullable=False),
    sa.Column('centre', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('covariance', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('rms', sa.Double(), nullable=False),
    sa.Column('points', sa.Integer(), nullable=False),
    sa.Column('remark', sa.String(length=200), nullable=False),
    sa.Column('used', sa.Boolean(), nullable=False),
    sa.Column('id', sa.String(length=32), nullable=False),
    sa.Column('version', sa.Integer(), nullable=False),
    sa.ForeignKeyConstraint(['project_id'], ['project.id'], name=op.f('fk_sighting_project_id'), ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_sighting'))
    )
    op.create_index(op.f('ix_sighting_project_id'), 'sighting', ['project_id'], unique=False)
    op.create_table('solution',
    sa.Column('project_id', sa.String(length=32), nullable=False),
    sa.Column('network_revision', sa.Integer(), nullable=False),
    sa.Column('data', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.ForeignKeyConstraint(['project_id'], ['project.id'], name=op.f('fk_solution_project_id'), ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('project_id', name=op.f('pk_solution'))
    )
    op.create_table('station',
    sa.Column('project_id', sa.String(length=32), nullable=False),
    sa.Column('name', sa.String(length=300), nullable=False),
    sa.Column('place', sa.Integer(), nullable=False),
    sa.Column('original_id', sa.String(length=32), nullable=True),
    sa.Column('scan_index', sa.Integer(), nullable=False),
    sa.Column('points', sa.Integer(), nullable=False),
    sa.Column('has_rgb', sa.Boolean(), nullable=False),
    sa.Column('has_intensity', sa.Boolean(), nullable=False),
    sa.Column('low', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('high', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('hue', sa.Integer(), nullable=False),
    sa.Column('pose', postgresql.JSONB(astext_type=sa.Text()), nullable=True),
    sa.Column('report', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('deleted', sa.Boolean(), nullable=False),
    sa.Column('id', sa.String(length=32), nullable=False),
    sa.Column('version', sa.Integer(), nullable=False),
    sa.ForeignKeyConstraint(['project_id'], ['project.id'], name=op.f('fk_station_project_id'), ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_station'))
    )
    op.create_index('ix_station_live', 'station', ['project_id', 'deleted'], unique=False)
    op.create_index(op.f('ix_station_project_id'), 'station', ['project_id'], unique=False)
    op.create_table('trace',
    sa.Column('project_id', sa.String(length=32), nullable=False),
    sa.Column('section_id', sa.String(length=32), nullable=False),
    sa.Column('kind', sa.String(length=12), nullable=False),
    sa.Column('layer', sa.String(length=60), nullable=False),
    sa.Column('points', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('radius', sa.Double(), nullable=False),
    sa.Column('state', sa.String(length=12), nullable=False),
    sa.Column('fit', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('id', sa.String(length=32), nullable=False),
    sa.Column('version', sa.Integer(), nullable=False),
    sa.ForeignKeyConstraint(['project_id'], ['project.id'], name=op.f('fk_trace_project_id'), ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_trace'))
    )
    op.create_index(op.f('ix_trace_project_id'), 'trace', ['project_id'], unique=False)
    op.create_index(op.f('ix_trace_section_id'), 'trace', ['section_id'], unique=False)
    op.create_table('edit_delta',
    sa.Column('edit_id', sa.String(length=32), nullable=False),
    sa.Column('station_id', sa.String(length=32), nullable=False),
    sa.Column('count', sa.Integer(), nullable=False),
    sa.Column('data', sa.LargeBinary(), nullable=False),
    sa.ForeignKeyConstraint(['edit_id'], ['edit.id'], name=op.f('fk_edit_delta_edit_id'), ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('edit_id', 'station_id', name=op.f('pk_edit_delta'))
    )
    op.create_table('grid',
    sa.Column('station_id', sa.String(length=32), nullable=False),
    sa.Column('data', sa.LargeBinary(), nullable=False),
    sa.ForeignKeyConstraint(['station_id'], ['station.id'], name=op.f('fk_grid_station_id'), ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('station_id', name=op.f('pk_grid'))
    )
    op.create_table('tile',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('station_id', sa.String(length=32), nullable=False),
    sa.Column('level', sa.Integer(), nullable=False),
    sa.Column('first', sa.BigInteger(), nullable=False),
    sa.Column('count', sa.Integer(), nullable=False),
    sa.Column('low', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('high', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('spacing', sa.Double(), nullable=False),
    sa.Column('data', sa.LargeBinary(), nullable=False),
    sa.ForeignKeyConstraint(['station_id'], ['station.id'], name=op.f('fk_tile_station_id'), ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_tile'))
    )
    op.create_index(op.f('ix_tile_station_id'), 'tile', ['station_id'], unique=False)
    for table in ('tile', 'chunk', 'grid', 'edit_delta'):  # compressed by us already
        op.execute(f'ALTER TABLE {table} ALTER COLUMN data SET STORAGE EXTERNAL')


def downgrade() -> None:
    op.drop_index(op.f('ix_tile_station_id'), table_name='tile')
    op.drop_table('tile')
    op.drop_table('grid')
    op.drop_table('edit_delta')
    op.drop_index(op.f('ix_trace_section_id'), table_name='trace')
    op.drop_index(op.f('ix_trace_project_id'), table_name='trace')
    op.drop_table('trace')
    op.drop_index(op.f('ix_station_project_id'), table_name='station')
    op.drop_index('ix_station_live', table_name='station')
    op.drop_table('station')
    op.drop_table('solution')
    op.drop_index(op.f('ix_sighting_project_id'), table_name='sighting')
    op.drop_table('sighting')
    op.drop_index(op.f('ix_section_project_id'), table_name='section')
    op.drop_table('section')
    op.drop_index(op.f('ix_placement_project_id'), table_name='placement')
    op.drop_table('placement')
    op.drop_index(op.f('ix_original_project_id'), table_name='original')
    op.drop_table('original')
    op.drop_index(op.f('ix_link_project_id'), table_name='link')
    op.drop_table('link')
    op.drop_index(op.f('ix_journal_project_id'), table_name='journal')
    op.drop_table('journal')
    op.drop_index(op.f('ix_job_state'), table_name='job')
    op.drop_index(op.f('ix_job_project_id'), table_name='job')
    op.drop_table('job')
    op.drop_index(op.f('ix_edit_project_id'), table_name='edit')
    op.drop_table('edit')
    op.drop_index(op.f('ix_delivery_project_id'), table_name='delivery')
    op.drop_table('delivery')
    op.drop_index(op.f('ix_crop_box_project_id'), table_name='crop_box')
    op.drop_table('crop_box')
    op.drop_index(op.f('ix_control_project_id'), table_name='control')
    op.drop_table('control')
    op.drop_table('project')
    op.drop_table('chunk')
