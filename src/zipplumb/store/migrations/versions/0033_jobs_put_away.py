"""jobs are put away, and removed for a while"""

import sqlalchemy as sa
from alembic import op

revision = '0033'
down_revision = '0032'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('jobs', sa.Column('archived_at', sa.DateTime(timezone=True)))
    op.add_column('jobs', sa.Column('removed_at', sa.DateTime(timezone=True)))
    op.add_column('jobs', sa.Column('removed_by', sa.Integer(), sa.ForeignKey('users.id')))


def downgrade() -> None:
    raise NotImplementedError
