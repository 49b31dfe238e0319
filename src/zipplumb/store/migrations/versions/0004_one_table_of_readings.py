"""one table of readings: those of calibrations and checks are kept as those of rows are"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = '0004'
down_revision = '0003'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('readings', sa.Column('trial_id', sa.Integer(), nullable=True))
    op.create_foreign_key(None, 'readings', 'trials', ['trial_id'], ['id'])
    op.create_index(op.f('ix_readings_trial_id'), 'readings', ['trial_id'])
    op.create_index(op.f('ix_readings_job_id'), 'readings', ['job_id'])
    op.create_index(op.f('ix_readings_calibration_id'), 'readings', ['calibration_id'])
    for name in ('job_id', 'row_id', 'station_id', 'calibration_id'):
        op.alter_column('readings', name, nullable=True)
    op.add_column('readings', sa.Column('lines', postgresql.ARRAY(sa.Double()), server_default='{}', nullable=False))
    op.add_column('readings', sa.Column('counts', postgresql.ARRAY(sa.Integer()), server_default='{}', nullable=False))
    op.create_check_constraint('readings_of_one', 'readings', '(row_id IS NULL) <> (trial_id IS NULL)')
    op.add_column('trials', sa.Column('found', postgresql.JSONB(), nullable=True))
    op.execute(
        """
        INSERT INTO readings (trial_id, kind, session, first_n, sweep, ns, times, poses, approach, faces, lines, counts)
        SELECT trial_id, kind, session, first_n, sweep,
               (SELECT array_agg(first_n + k) FROM generate_series(0, cardinality(times) - 1) AS k),
               times, poses, array_fill('NaN'::float8, ARRAY[7 * cardinality(times)]), faces, lines, counts
        FROM trial_readings WHERE cardinality(times) > 0 ORDER BY id
        ON CONFLICT DO NOTHING
        """
    )
    op.execute(
        """
        INSERT INTO marks (reading_id, hit, reason, at)
        SELECT r.id, k, 'undone', t.undone_at
        FROM trial_readings t
        JOIN readings r ON r.trial_id = t.trial_id AND r.session = t.session AND r.kind = t.kind AND r.first_n = t.first_n,
             generate_series(0, cardinality(t.times) - 1) AS k
        WHERE t.undone_at IS NOT NULL
        """
    )
    op.drop_table('trial_readings')


def downgrade() -> None:
    raise NotImplementedError
