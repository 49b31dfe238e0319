"""when a session was last seen, and attempts by where they come from"""

import sqlalchemy as sa
from alembic import op

revision = '0020'
down_revision = '0019'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('signed_in', sa.Column('seen_at', sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False))
    op.create_index('sign_in_attempts_of_place', 'sign_in_attempts', ['address', 'at'])


def downgrade() -> None:
    raise NotImplementedError
