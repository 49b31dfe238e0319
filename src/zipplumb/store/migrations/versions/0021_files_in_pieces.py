"""CAD files in pieces"""

import sqlalchemy as sa
from alembic import op

revision = '0021'
down_revision = '0020'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        'part_files',
        sa.Column('part_id', sa.Integer(), sa.ForeignKey('parts.id', ondelete='CASCADE'), primary_key=True),
        sa.Column('number', sa.Integer(), primary_key=True),
        sa.Column('piece', sa.LargeBinary(), nullable=False),
    )
    op.execute("""
        INSERT INTO part_files (part_id, number, piece)
        SELECT id, n, substring(file from n * 1048576 + 1 for 1048576)
        FROM parts, generate_series(0, (octet_length(file) - 1) / 1048576) AS n
        WHERE octet_length(file) > 0
    """)
    op.drop_column('parts', 'file')


def downgrade() -> None:
    raise NotImplementedError
