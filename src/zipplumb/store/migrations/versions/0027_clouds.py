"""what is worked out of scans"""

import sqlalchemy as sa
from alembic import op

revision = '0027'
down_revision = '0026'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        'clouds',
        sa.Column('id', sa.Integer(), nullable=False),
        sa.Column('key', sa.String(40), nullable=False),
        sa.Column('job_id', sa.Integer(), nullable=False),
        sa.Column('row_id', sa.Integer(), nullable=False),
        sa.Column('state', sa.String(10), server_default='making', nullable=False),
        sa.Column('message', sa.Text(), server_default='', nullable=False),
        sa.Column('share', sa.Double(), server_default='0', nullable=False),
        sa.Column('given', sa.LargeBinary(), nullable=True),
        sa.Column('drawn', sa.LargeBinary(), nullable=True),
        sa.Column('at', sa.DateTime(timezone=True), server_default=sa.text('now()'), nullable=False),
        sa.ForeignKeyConstraint(['job_id'], ['jobs.id'], name=op.f('fk_clouds_job_id_jobs')),
        sa.ForeignKeyConstraint(['row_id'], ['rows.id'], name=op.f('fk_clouds_row_id_rows')),
        sa.PrimaryKeyConstraint('id', name=op.f('pk_clouds')),
        sa.UniqueConstraint('key', name=op.f('uq_clouds_key')),
    )
    op.create_index(op.f('ix_clouds_job_id'), 'clouds', ['job_id'])


def downgrade() -> None:
    raise NotImplementedError
