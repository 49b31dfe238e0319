"""a scan is cut by regions between planes: a plane is a region with one side"""

from alembic import op

revision = '0030'
down_revision = '0029'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("""
        update rows set recipe = jsonb_set(recipe, '{cuts}', (
            select coalesce(jsonb_agg(jsonb_build_object(
                'kind', 'region', 'sides', jsonb_build_array(jsonb_build_object('point', cut -> 'point', 'normal', cut -> 'normal')),
                'keeps', false, 'name', cut -> 'name') order by n), '[]')
            from jsonb_array_elements(recipe -> 'cuts') with ordinality as each(cut, n)))
        where recipe ->> 'kind' = 'scan' and recipe ? 'cuts'
    """)


def downgrade() -> None:
    raise NotImplementedError
