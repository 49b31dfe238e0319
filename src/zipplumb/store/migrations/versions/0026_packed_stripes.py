"""lines of light packed, in the place of lists of numbers"""

import sqlalchemy as sa
from alembic import op

from zipplumb.core.stripes import packed, stripe_of_pairs

revision = '0026'
down_revision = '0025'
branch_labels = None
depends_on = None
OLD = "SELECT id, lines FROM readings WHERE cardinality(lines) > 0 ORDER BY id"
KEPT = "UPDATE readings SET points = :points WHERE id = :id"


def upgrade() -> None:
    op.add_column('readings', sa.Column('points', sa.LargeBinary(), server_default='', nullable=False))
    here = op.get_bind()
    for id, lines in here.execute(sa.text(OLD)).all():
        pairs = stripe_of_pairs(list(zip(lines[::2], lines[1::2], strict=True)))
        here.execute(sa.text(KEPT), {'points': packed([pairs])[0], 'id': id})
    op.drop_column('readings', 'lines')


def downgrade() -> None:
    raise NotImplementedError
