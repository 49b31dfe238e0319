"""jobs of several pieces"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = '0034'
down_revision = '0033'
branch_labels = None
depends_on = None


def upgrade() -> None:
    when = sa.DateTime(timezone=True)
    op.create_table(
        'plans',
        sa.Column('id', sa.Integer(), primary_key=True),
        sa.Column('job_id', sa.Integer(), sa.ForeignKey('jobs.id'), nullable=False, index=True),
        sa.Column('piece_id', sa.Integer(), sa.ForeignKey('jobs.id'), nullable=False),
        sa.Column('told', JSONB(), nullable=False),
        sa.Column('rows', JSONB(), nullable=False),
        sa.Column('left', JSONB(), nullable=False, server_default='[]'),
        sa.Column('by', sa.Integer(), sa.ForeignKey('users.id')),
        sa.Column('at', when, nullable=False, server_default=sa.func.now()),
    )
    op.create_table(
        'outcomes',
        sa.Column('piece_id', sa.Integer(), sa.ForeignKey('jobs.id'), primary_key=True),
        sa.Column('edition', sa.String(40), nullable=False, server_default=''),
        sa.Column('asked_at', when),
        sa.Column('out', sa.Integer(), nullable=False, server_default='0'),
        sa.Column('words', JSONB(), nullable=False, server_default='{}'),
        sa.Column('rows', JSONB(), nullable=False, server_default='[]'),
        sa.Column('at', when, nullable=False, server_default=sa.func.now()),
    )
    op.add_column('jobs', sa.Column('first_id', sa.Integer(), sa.ForeignKey('jobs.id')))
    op.add_column('jobs', sa.Column('serial', sa.Text(), nullable=False, server_default=''))
    op.add_column('jobs', sa.Column('identity', JSONB(), nullable=False, server_default='[]'))
    op.add_column('jobs', sa.Column('plan_id', sa.Integer(), sa.ForeignKey('plans.id')))
    op.create_index('jobs_of_one', 'jobs', [sa.text('coalesce(first_id, id)')])
    op.add_column('rows', sa.Column('plan_row', sa.Integer()))


def downgrade() -> None:
    raise NotImplementedError
