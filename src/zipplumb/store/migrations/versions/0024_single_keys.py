"""whether single keys act, of each person"""

import sqlalchemy as sa
from alembic import op

revision = '0024'
down_revision = '0023'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('users', sa.Column('single_keys', sa.Boolean(), server_default='true', nullable=False))


def downgrade() -> None:
    raise NotImplementedError
