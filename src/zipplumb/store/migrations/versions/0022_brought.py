"""when an instrument was brought to a station last"""

import sqlalchemy as sa
from alembic import op

revision = '0022'
down_revision = '0021'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('stations', sa.Column('brought_at', sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False))
    op.execute("UPDATE stations SET brought_at = created_at")


def downgrade() -> None:
    raise NotImplementedError
