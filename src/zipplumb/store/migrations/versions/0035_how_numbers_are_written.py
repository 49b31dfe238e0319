"""how the numbers of a report are written"""

import sqlalchemy as sa
from alembic import op

revision = '0035'
down_revision = '0034'
branch_labels = None
depends_on = None


def upgrade() -> None:
    for table in ('documents', 'layouts'):
        op.add_column(table, sa.Column('decimals', sa.Integer()))
        op.add_column(table, sa.Column('mark', sa.String(1), nullable=False, server_default='.'))


def downgrade() -> None:
    raise NotImplementedError
