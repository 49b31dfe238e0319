"""what an instrument is to look at, until its link has asked it"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = '0019'
down_revision = '0018'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('instruments', sa.Column('asked', postgresql.JSONB()))
    op.add_column('instruments', sa.Column('asked_at', sa.DateTime(timezone=True)))


def downgrade() -> None:
    raise NotImplementedError
