"""a reading names its instrument, and keeps what a result rests on: level, weather, what the maker states; bodies are kept by job;
sessions can be ended"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = '0005'
down_revision = '0004'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('readings', sa.Column('instrument_id', sa.Integer(), sa.ForeignKey('instruments.id'), nullable=True))
    op.add_column('readings', sa.Column('conditions', postgresql.JSONB(), server_default='{}', nullable=False))
    op.execute('UPDATE readings r SET instrument_id = s.instrument_id FROM stations s WHERE s.id = r.station_id')
    op.execute('UPDATE readings r SET instrument_id = t.instrument_id FROM trials t WHERE t.id = r.trial_id')
    # what was not kept before: as the instrument is now
    op.execute(
        """
        UPDATE readings r SET conditions = jsonb_strip_nulls(jsonb_build_object(
            'u_hit_mm', i.u_hit_mm, 'spec', i.spec, 'level', to_jsonb(i.level), 'u_level_rad', i.u_level_rad))
        FROM instruments i WHERE i.id = r.instrument_id
        """
    )
    op.alter_column('readings', 'instrument_id', nullable=False)
    op.drop_constraint('readings_once', 'readings')
    op.create_unique_constraint('readings_once', 'readings', ['instrument_id', 'session', 'kind', 'first_n'])
    op.drop_index('ix_readings_job_id', 'readings')
    op.create_index('readings_of_job', 'readings', ['job_id', 'id'])
    op.create_index('changes_at', 'changes', ['job_id', 'at'])

    op.add_column('users', sa.Column('active', sa.Boolean(), server_default='true', nullable=False))
    op.create_table(
        'signed_in',
        sa.Column('id', sa.Integer(), primary_key=True),
        sa.Column('user_id', sa.Integer(), sa.ForeignKey('users.id'), nullable=False, index=True),
        sa.Column('token', sa.String(64), nullable=False, unique=True),
        sa.Column('address', sa.String(60), server_default='', nullable=False),
        sa.Column('at', sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
        sa.Column('ended_at', sa.DateTime(timezone=True), nullable=True),
    )

    op.add_column('instruments', sa.Column('removed_at', sa.DateTime(timezone=True), nullable=True))
    op.add_column('jobs', sa.Column('kept_bodies', postgresql.JSONB(), nullable=True))
    op.execute('UPDATE jobs j SET kept_bodies = p.kept_bodies FROM parts p WHERE p.id = j.part_id')
    op.drop_column('parts', 'kept_bodies')
    op.add_column('parts', sa.Column('missing', postgresql.JSONB(), server_default='[]', nullable=False))

    op.add_column('device_events', sa.Column('instrument_id', sa.Integer(), sa.ForeignKey('instruments.id'), nullable=True))
    op.drop_constraint('device_events_pkey', 'device_events')
    op.execute(
        """
        INSERT INTO device_events (instrument_id, session, number, at)
        SELECT i.id, e.session, e.number, e.at FROM device_events e CROSS JOIN instruments i WHERE e.instrument_id IS NULL
        """
    )
    op.execute('DELETE FROM device_events WHERE instrument_id IS NULL')
    op.create_primary_key('device_events_pkey', 'device_events', ['instrument_id', 'session', 'number'])


def downgrade() -> None:
    raise NotImplementedError
