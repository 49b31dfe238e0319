"""how often hits of a job were handed from one of its rows to another"""

import sqlalchemy as sa
from alembic import op

revision = '0023'
down_revision = '0022'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('jobs', sa.Column('handed_over', sa.Integer(), server_default='0', nullable=False))


def downgrade() -> None:
    raise NotImplementedError
