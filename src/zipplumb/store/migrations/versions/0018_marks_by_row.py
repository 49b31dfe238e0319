"""a mark names the row of its reading: the marks of a row are found without its readings"""

import sqlalchemy as sa
from alembic import op

revision = '0018'
down_revision = '0017'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('marks', sa.Column('row_id', sa.Integer(), sa.ForeignKey('rows.id'), nullable=True))
    op.execute("UPDATE marks SET row_id = readings.row_id FROM readings WHERE readings.id = marks.reading_id")
    op.create_index('marks_row', 'marks', ['row_id'], postgresql_where='lifted_at IS NULL')


def downgrade() -> None:
    raise NotImplementedError
