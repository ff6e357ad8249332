"""Shake figures say how sure they are; those kept before get what theirs were."""

from alembic import op

revision = "0002"
down_revision = "0001"

SURE = """to_jsonb(0.15 * greatest(
    1.0, least((r.probe->>'width')::float, (r.probe->>'height')::float) / 540
))"""


def upgrade() -> None:
    op.execute(
        f"""UPDATE clips SET shake = jsonb_set(shake, '{{shake_accuracy}}', {SURE})
        FROM recordings r
        WHERE r.id = clips.recording_id AND jsonb_typeof(clips.shake) = 'object'"""
    )
    op.execute(
        f"""UPDATE exports SET report = jsonb_set(report, '{{shake_accuracy}}', {SURE})
        FROM clips c JOIN recordings r ON r.id = c.recording_id
        WHERE c.id = exports.clip_id AND jsonb_typeof(exports.report) = 'object'"""
    )
