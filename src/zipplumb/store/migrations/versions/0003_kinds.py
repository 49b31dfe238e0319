"""kinds: shapes in one form, limits of each characteristic, dimensions from the registry of derivations"""

import json
import struct

import sqlalchemy as sa
from alembic import op

revision = '0003'
down_revision = '0002'
branch_labels = None
depends_on = None

# what the sheet of the version before judged of each kind, and what its kinds have now, that first
FIRST = {
    'point': ('off', 'x', 'y', 'z'),
    'surface_point': ('off',),
    'line': ('straightness', 'off', 'tilt'),
    'plane': ('height', 'flatness', 'tilt'),
    'circle': ('diameter', 'x', 'y', 'z', 'roundness'),
    'slot': ('width', 'length', 'x', 'y', 'z', 'form'),
    'sphere': ('diameter', 'x', 'y', 'z', 'form'),
    'cylinder': ('diameter', 'cylindricity', 'off', 'tilt'),
    'dimension': ('value',),
}


def shape(nominal: dict) -> tuple[dict, bool | None]:
    """A nominal in the one form of shapes, and whether it is inside."""
    found = dict(nominal)
    inside = found.pop('inside', None)
    if 'diameter_mm' in found:
        found['radius'] = found.pop('diameter_mm') / 2
    for name in ('length', 'width'):
        if f'{name}_mm' in found:
            found[name] = found.pop(f'{name}_mm')
    return found, inside


def recipe(old: dict) -> dict:
    """A recipe of the version before as this one has it."""
    new = dict(old)
    tolerance = new.pop('tolerance', None)
    if new['kind'] == 'distance':
        measure = new.pop('measure')
        new |= {
            'kind': 'dimension',
            'of': [new.pop('first'), new.pop('second')],
            'measure': 'perpendicular_distance' if measure == 'perpendicular' else measure,
        }
    if isinstance(new.get('nominal'), dict):
        new['nominal'], inside = shape(new['nominal'])
        if inside is not None:
            new['inside'] = inside
    if tolerance:
        first, *others = FIRST.get(new['kind'], ('value',))
        asked = [{'key': first, 'lower': tolerance['lower_mm'], 'upper': tolerance['upper_mm']}]
        new['asked'] = asked + [{'key': key} for key in others]
    return new


def faces(old: list) -> list:
    """The faces of a part, their nominals in the one form."""
    found = []
    for face in old:
        nominal, inside = shape(face['nominal']) if face['nominal'] else (None, None)
        found.append({**face, 'nominal': nominal, 'inside': inside})
    return found


def model(old: bytes) -> bytes:
    """A packed model with the faces of its head rewritten; its arrays stay as they are."""
    (length,) = struct.unpack_from('<I', old)
    head = json.loads(old[4 : 4 + length])
    head['faces'] = faces(head['faces'])
    text = json.dumps(head, separators=(',', ':')).encode()
    text += b' ' * (-len(text) % 4)
    return struct.pack('<I', len(text)) + text + old[4 + length :]


def upgrade() -> None:
    connection = op.get_bind()
    for row_id, old in connection.execute(sa.text('SELECT id, recipe FROM rows')).all():
        new = json.dumps(recipe(old))
        connection.execute(sa.text('UPDATE rows SET recipe = CAST(:new AS jsonb) WHERE id = :id'), {'new': new, 'id': row_id})
    for part_id, old, packed in connection.execute(sa.text('SELECT id, faces, model FROM parts')).all():
        values = {'id': part_id, 'faces': json.dumps(faces(old)), 'model': model(bytes(packed)) if packed else None}
        connection.execute(sa.text('UPDATE parts SET faces = CAST(:faces AS jsonb), model = :model WHERE id = :id'), values)


def downgrade() -> None:
    raise NotImplementedError
