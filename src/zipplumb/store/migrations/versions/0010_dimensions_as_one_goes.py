"""how a job's dimensions follow its features"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = '0010'
down_revision = '0009'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('jobs', sa.Column('chain', JSONB(), server_default='{}', nullable=False))


def downgrade() -> None:
    raise NotImplementedError
