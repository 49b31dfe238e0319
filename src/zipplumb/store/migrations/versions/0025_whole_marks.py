"""a mark of a whole reading: one for a sweep's batch, not one a hit"""

import sqlalchemy as sa
from alembic import op

revision = '0025'
down_revision = '0024'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.alter_column('marks', 'hit', existing_type=sa.Integer(), nullable=True)
    op.create_index(
        'marks_whole_once', 'marks', ['reading_id'], unique=True, postgresql_where=sa.text('hit IS NULL AND lifted_at IS NULL')
    )


def downgrade() -> None:
    raise NotImplementedError
