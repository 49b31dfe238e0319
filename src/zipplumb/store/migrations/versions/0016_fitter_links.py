"""links by which a fitter sees one detail"""

import sqlalchemy as sa
from alembic import op

revision = '0016'
down_revision = '0015'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        'fitter_links',
        sa.Column('id', sa.Integer(), primary_key=True),
        sa.Column('detail_id', sa.Integer(), sa.ForeignKey('details.id'), nullable=False, index=True),
        sa.Column('token_hash', sa.String(64), nullable=False, unique=True),
        sa.Column('created_at', sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
        sa.Column('withdrawn_at', sa.DateTime(timezone=True)),
    )


def downgrade() -> None:
    raise NotImplementedError
