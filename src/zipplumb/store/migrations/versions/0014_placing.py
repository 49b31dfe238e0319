"""how a job places details: the zone, and the words of the place"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = '0014'
down_revision = '0013'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('jobs', sa.Column('placing', postgresql.JSONB(), server_default='{}', nullable=False))


def downgrade() -> None:
    raise NotImplementedError
