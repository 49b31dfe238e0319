"""plans that prove"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = '0036'
down_revision = '0035'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        'proof_plans',
        sa.Column('id', sa.Integer(), primary_key=True),
        sa.Column('job_id', sa.Integer(), sa.ForeignKey('jobs.id'), nullable=False, index=True),
        sa.Column('by', sa.Integer(), sa.ForeignKey('users.id')),
        sa.Column('asked', JSONB(), nullable=False),
        sa.Column('state', sa.String(10), nullable=False, server_default='making'),
        sa.Column('message', sa.Text(), nullable=False, server_default=''),
        sa.Column('share', sa.Double(), nullable=False, server_default='0'),
        sa.Column('found', JSONB()),
        sa.Column('at', sa.DateTime(timezone=True), nullable=False, server_default=sa.func.now()),
    )


def downgrade() -> None:
    raise NotImplementedError
