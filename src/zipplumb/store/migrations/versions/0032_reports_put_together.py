"""reports are put together from parts, and pictures are drawn from what they show"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = '0032'
down_revision = '0031'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.alter_column('pictures', 'png', nullable=True)
    op.add_column('pictures', sa.Column('view', JSONB()))
    op.add_column('pictures', sa.Column('what', sa.String(10), server_default='view', nullable=False))
    op.create_table(
        'documents',
        sa.Column('id', sa.Integer(), primary_key=True),
        sa.Column('job_id', sa.Integer(), sa.ForeignKey('jobs.id'), nullable=False, index=True),
        sa.Column('name', sa.Text(), nullable=False),
        sa.Column('parts', JSONB(), nullable=False),
        sa.Column('paper', sa.String(10), server_default='A4', nullable=False),
        sa.Column('at', sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
        sa.UniqueConstraint('job_id', 'name'),
    )
    op.create_table(
        'layouts',
        sa.Column('id', sa.Integer(), primary_key=True),
        sa.Column('name', sa.Text(), nullable=False, unique=True),
        sa.Column('parts', JSONB(), nullable=False),
        sa.Column('paper', sa.String(10), server_default='A4', nullable=False),
        sa.Column('by', sa.Integer(), sa.ForeignKey('users.id')),
        sa.Column('at', sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
    )
    op.create_table(
        'office_links',
        sa.Column('id', sa.Integer(), primary_key=True),
        sa.Column('job_id', sa.Integer(), sa.ForeignKey('jobs.id'), nullable=False, index=True),
        sa.Column('name', sa.Text(), nullable=False),
        sa.Column('token_hash', sa.String(64), nullable=False, unique=True),
        sa.Column('by', sa.Integer(), sa.ForeignKey('users.id')),
        sa.Column('created_at', sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
        sa.Column('withdrawn_at', sa.DateTime(timezone=True)),
    )
    op.add_column('reports', sa.Column('document_id', sa.Integer(), sa.ForeignKey('documents.id', ondelete='SET NULL')))
    op.add_column('reports', sa.Column('number', sa.Integer(), server_default='0', nullable=False))
    op.add_column('reports', sa.Column('fingerprint', sa.String(20), server_default='', nullable=False))
    op.add_column('reports', sa.Column('standing', JSONB(), server_default='{}', nullable=False))
    op.execute(
        'UPDATE reports SET number = counted.n FROM (SELECT id, row_number() OVER (PARTITION BY job_id ORDER BY id) AS n FROM '
        'reports) AS counted WHERE counted.id = reports.id'
    )


def downgrade() -> None:
    raise NotImplementedError
