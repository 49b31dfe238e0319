"""a row names the act that it was planned with, so that the whole act can be taken back"""

import sqlalchemy as sa
from alembic import op

revision = '0006'
down_revision = '0005'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('rows', sa.Column('planned_by', sa.Integer(), sa.ForeignKey('changes.id'), nullable=True))


def downgrade() -> None:
    raise NotImplementedError
