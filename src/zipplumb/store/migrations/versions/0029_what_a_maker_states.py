"""what its maker states of a scanner is kept with the probe"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = '0029'
down_revision = '0028'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('probes', sa.Column('maker_states', JSONB(none_as_null=True)))


def downgrade() -> None:
    op.drop_column('probes', 'maker_states')
