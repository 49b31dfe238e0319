"""the datum of a tolerance is not a datum letter: it has a name of its own"""

from alembic import op

revision = '0012'
down_revision = '0011'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(
        "UPDATE rows SET recipe = (recipe - 'datum') || jsonb_build_object('to_datum', recipe->'datum') "
        "WHERE jsonb_typeof(recipe->'datum') = 'number'"
    )


def downgrade() -> None:
    raise NotImplementedError
