"""a detail as it was found, and that it is fixed"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = '0017'
down_revision = '0016'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('details', sa.Column('first', postgresql.JSONB()))
    op.add_column('details', sa.Column('fixed_at', sa.DateTime(timezone=True)))


def downgrade() -> None:
    raise NotImplementedError
