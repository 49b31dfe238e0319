"""whether hits of a job go to what they fit; rows whose hits another has taken over"""

import sqlalchemy as sa
from alembic import op

revision = '0008'
down_revision = '0007'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('jobs', sa.Column('touching', sa.String(5), server_default='', nullable=False))
    op.add_column('rows', sa.Column('taken_over_by', sa.Integer(), sa.ForeignKey('rows.id'), nullable=True))


def downgrade() -> None:
    raise NotImplementedError
