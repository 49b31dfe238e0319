"""exact surfaces of free faces"""

import sqlalchemy as sa
from alembic import op

revision = '0009'
down_revision = '0008'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('parts', sa.Column('splines', sa.LargeBinary(), nullable=True))


def downgrade() -> None:
    raise NotImplementedError
