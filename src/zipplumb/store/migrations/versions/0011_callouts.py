"""tolerances that a part's file carries"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = '0011'
down_revision = '0010'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('parts', sa.Column('callouts', JSONB(), server_default='{}', nullable=False))


def downgrade() -> None:
    raise NotImplementedError
