"""Shake figures say how sure they are; those kept before get what theirs were."""

from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    op.execute(
        """
        UPDATE clips SET shake = shake || jsonb_build_object('shake_accuracy', sure.px)
        FROM (
            SELECT id, 0.15 * greatest(1, least(
                (probe->>'width')::float, (probe->>'height')::float) / 540) AS px
            FROM recordings
        ) sure
        WHERE sure.id = clips.recording_id AND jsonb_typeof(clips.shake) = 'object'
        """
    )
    op.execute(
        """
        UPDATE exports SET report = report || jsonb_build_object('shake_accuracy', sure.px)
        FROM (
            SELECT c.id, 0.15 * greatest(1, least(
                (r.probe->>'width')::float, (r.probe->>'height')::float) / 540) AS px
            FROM clips c JOIN recordings r ON r.id = c.recording_id
        ) sure
        WHERE sure.id = exports.clip_id AND jsonb_typeof(exports.report) = 'object'
        """
    )
