"""files of scanned points are read into rows"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = '0031'
down_revision = '0030'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        'point_files',
        sa.Column('id', sa.Integer(), primary_key=True),
        sa.Column('job_id', sa.Integer(), sa.ForeignKey('jobs.id'), nullable=False, index=True),
        sa.Column('user_id', sa.Integer(), sa.ForeignKey('users.id')),
        sa.Column('station_id', sa.Integer(), sa.ForeignKey('stations.id')),
        sa.Column('row_id', sa.Integer(), sa.ForeignKey('rows.id')),
        sa.Column('name', sa.Text(), nullable=False),
        sa.Column('asked', JSONB(), nullable=False),
        sa.Column('state', sa.String(10), server_default='reading', nullable=False),
        sa.Column('share', sa.Double(), server_default='0', nullable=False),
        sa.Column('words', sa.Text(), server_default='', nullable=False),
        sa.Column('at', sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
    )
    op.create_table(
        'point_file_pieces',
        sa.Column('file_id', sa.Integer(), sa.ForeignKey('point_files.id', ondelete='CASCADE'), primary_key=True),
        sa.Column('number', sa.Integer(), primary_key=True),
        sa.Column('piece', sa.LargeBinary(), nullable=False),
    )


def downgrade() -> None:
    raise NotImplementedError
