"""by which rule a job decides"""

import sqlalchemy as sa
from alembic import op

revision = '0013'
down_revision = '0012'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('jobs', sa.Column('rule', sa.String(10), server_default='proven', nullable=False))


def downgrade() -> None:
    raise NotImplementedError
