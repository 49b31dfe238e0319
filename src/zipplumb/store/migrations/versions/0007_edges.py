"""what the edges of a part are"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = '0007'
down_revision = '0006'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('parts', sa.Column('edges', postgresql.JSONB(), server_default='[]', nullable=False))


def downgrade() -> None:
    raise NotImplementedError
