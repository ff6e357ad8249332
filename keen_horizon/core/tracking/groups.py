"""Marks that move together: the subjects of a shot, told apart from its background.

In short windows of time, marks that the camera's motion does not explain are joined where they are
near each other and move alike; windows are linked by the marks they share. Grouping of point
trajectories by their motion is old; see Brox, Malik, *Object segmentation by long term analysis of
point trajectories*, ECCV 2010, which also links over short overlaps.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from ..geometry.canvas import Canvas
from ..geometry.motion import Motion
from ..types import Complex, Flags, Indices
from .correspondences import correspondences, votes
from .tracks import Tracks, places_of

WINDOW = 12  # frames
NEAR = 0.15  # of the half-diagonal: marks of a subject are no further apart
ALIKE = 0.0016  # of the half-diagonal a frame: difference of motion that is none
ALIKE_SHARE = 0.2  # or that share of the motion itself
STRAYS = 0.0007  # of the half-diagonal a frame: less is the camera's own motion
SEEN = 4  # frames of a window in which a mark must be seen
LINKED = 0.5  # of the marks two clusters know of each other, for them to be the same
FEWEST = 6  # marks of a group
BRIEFEST = 6  # frames of a group
PARTS = (16, 9)  # of the picture, for the share that a group covers


@dataclass(frozen=True)
class TrackGroup:
    """Marks that move together. Frames are counted from the start of the range.

    ``track_ids`` those of its tracks; ``first``, ``last`` when they are seen; ``frame`` and
    ``place`` (complex, scene units) a moment and a mark to find it by; ``share`` of the picture
    covered at most (0..1); ``speed`` against the background, scene units a frame; ``steered`` the
    share of the sightings that steered the fit, 0..1.
    """

    track_ids: Indices
    first: int
    last: int
    frame: int
    place: complex
    share: float
    speed: float
    steered: float


def groups_of(tracks: Tracks, canvas: Canvas, steps: Motion, steering: Flags) -> list[TrackGroup]:
    """Groups that move otherwise than the camera, largest first.

    ``steps`` are the fit of all tracks (or of those not excluded: the others are grouped too),
    ``steering`` says which sightings steered it.
    """
    ids = tracks.records["id"].astype(np.intp)
    count = int(ids.max(initial=-1)) + 1
    if not count:
        return []
    rest, place = _strayed(tracks, canvas, steps)
    frame = np.repeat(np.arange(len(tracks)), np.diff(tracks.offsets))
    clusters: list[Indices] = []  # of all windows
    links: list[tuple[int, int]] = []
    before = np.full(count, -1)  # the cluster of each mark in the window before
    for start in range(0, max(1, len(tracks) - WINDOW // 2), WINDOW // 2):
        low, high = tracks.offsets[start], tracks.offsets[min(start + WINDOW, len(tracks))]
        rows = np.arange(low, high)[np.isfinite(rest[low:high])]
        now = np.full(count, -1)
        for marks in _clusters(ids[rows], rest[rows], place[rows], canvas.radius):
            now[marks] = len(clusters)
            clusters.append(marks)
        links += _linked(before, now)
        before = now
    if not clusters:
        return []
    pairs = np.array(links, np.intp).reshape(-1, 2)
    graph = scipy.sparse.csr_array(
        (np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), (len(clusters),) * 2
    )
    _, name_of = scipy.sparse.csgraph.connected_components(graph, directed=False)
    # A mark that was in several is with those it was with most.
    marks = np.concatenate(clusters)
    names = np.repeat(name_of, [len(c) for c in clusters])
    tally = scipy.sparse.csr_array(
        (np.ones(len(marks)), (marks, names)), (count, int(name_of.max()) + 1)
    )
    label = np.asarray(tally.argmax(axis=1)).ravel()
    member = np.zeros(count, bool)
    member[marks] = True
    found = []
    sighted = member[ids] & np.isfinite(rest)
    order = np.argsort(label[ids[sighted]], kind="stable")
    sightings = np.nonzero(sighted)[0][order]
    names, starts = np.unique(label[ids[sightings]], return_index=True)
    for rows in np.split(sightings, starts[1:]) if len(names) else []:
        group = _described(rows, ids, frame, rest, place, steering, canvas)
        if group is not None:
            found.append(group)
    return sorted(found, key=lambda g: -g.share * (g.last - g.first + 1))


def group_at(
    groups: list[TrackGroup], tracks: Tracks, canvas: Canvas, frame: int, place: complex
) -> TrackGroup | None:
    """The group of the mark nearest to a place at a frame of the range; None without any."""
    records = tracks.frame(frame)
    points = places_of(records)
    away = np.abs(canvas.to_scene(points) - place)
    best: tuple[float, TrackGroup] | None = None
    for group in groups:
        mine = np.isin(records["id"], group.track_ids)
        if mine.any():
            nearest = float(away[mine].min())
            if best is None or nearest < best[0]:
                best = (nearest, group)
    return best[1] if best else None


def pull(
    group: TrackGroup, tracks: Tracks, canvas: Canvas, steps: Motion, steering: Flags
) -> float:
    """By how much a group shifts the solve while it is seen: rms scene units a frame.

    To first order: what its steering marks stray from the fit, weighed against all that steer.
    """
    frames = np.arange(max(group.first, 1), group.last + 1)
    total, count = 0.0, 0
    for start in range(0, len(frames), 256):
        part = frames[start : start + 256]
        pairs = correspondences(tracks, canvas, part)
        off = pairs.after - steps[part].apply(pairs.before)
        weight = votes(pairs.before, pairs.valid, canvas) * steering[pairs.record]
        weight = np.where(pairs.valid, weight, 0.0)
        mine = weight * np.isin(pairs.mark, group.track_ids)
        others = (weight - mine).sum(axis=1)
        moved = np.where(mine > 0, mine * off, 0).sum(axis=1) / np.maximum(others, 1e-9)
        total += float((np.abs(moved[others > 0]) ** 2).sum())
        count += int((others > 0).sum())
    return float(np.sqrt(total / max(count, 1)))


def _strayed(tracks: Tracks, canvas: Canvas, steps: Motion) -> tuple[Complex, Complex]:
    """Per record, how far the mark moved otherwise than the camera (NaN at its first sighting),
    and where it is, scene units."""
    rest = np.full(len(tracks.records), np.nan + 0j)
    place = np.zeros(len(tracks.records), complex)
    for start in range(1, len(tracks), 256):
        frames = np.arange(start, min(start + 256, len(tracks)))
        pairs = correspondences(tracks, canvas, frames)
        off = pairs.after - steps[frames].apply(pairs.before)
        rest[pairs.record[pairs.valid]] = off[pairs.valid]
        place[pairs.record[pairs.valid]] = pairs.after[pairs.valid]
    return rest, place


def _clusters(
    ids: Indices, rest: Complex, place: Complex,
    radius: float,
) -> list[Indices]:  # fmt: skip
    """The marks of one window that stray from the camera, in clusters that move alike."""
    if not len(ids):
        return []
    names, inverse = np.unique(ids, return_inverse=True)
    seen = np.bincount(inverse)

    def mean(values: Complex) -> Complex:
        total = np.bincount(inverse, values.real) + 1j * np.bincount(inverse, values.imag)
        return np.asarray(total / seen)

    speed, at = mean(rest), mean(place)
    length = np.sqrt(np.bincount(inverse, np.abs(rest) ** 2) / seen)
    moving = np.nonzero(
        (seen >= SEEN) & (length > STRAYS * radius) & (np.abs(speed) > 0.4 * length)
    )[0]
    if len(moving) < FEWEST:
        return []
    tree = scipy.spatial.cKDTree(np.stack([at[moving].real, at[moving].imag], axis=-1))
    near = tree.query_pairs(NEAR * radius, output_type="ndarray")
    one, other = moving[near[:, 0]], moving[near[:, 1]]
    differ = np.abs(speed[one] - speed[other])
    fast = np.maximum(np.abs(speed[one]), np.abs(speed[other]))
    alike = near[differ < np.maximum(ALIKE * radius, ALIKE_SHARE * fast)]
    graph = scipy.sparse.csr_array(
        (np.ones(len(alike)), (alike[:, 0], alike[:, 1])), (len(moving), len(moving))
    )
    _, label = scipy.sparse.csgraph.connected_components(graph, directed=False)
    large = np.nonzero(np.bincount(label) >= FEWEST)[0]
    return [names[moving[label == k]] for k in large]


def _linked(before: Indices, now: Indices) -> list[tuple[int, int]]:
    """Clusters of neighbouring windows that are mostly the same marks."""
    both = (before >= 0) & (now >= 0)
    if not both.any():
        return []
    pairs, shared = np.unique(np.stack([before[both], now[both]]), axis=1, return_counts=True)
    ahead, back = np.bincount(before[both]), np.bincount(now[both])
    least = np.maximum(ahead[pairs[0]], back[pairs[1]])
    mostly = shared >= np.maximum(LINKED * least, 2)
    return [(int(i), int(j)) for i, j in pairs[:, mostly].T]


def _described(
    rows: Indices, ids: Indices, frame: Indices,
    rest: Complex, place: Complex, steering: Flags,
    canvas: Canvas,
) -> TrackGroup | None:  # fmt: skip
    marks = np.unique(ids[rows])
    if len(marks) < FEWEST:
        return None
    frames = frame[rows]
    first, last = int(frames.min()), int(frames.max())
    if last - first + 1 < BRIEFEST:
        return None
    hu, hv = canvas.half
    across = np.clip(((place[rows].real / hu + 1) * PARTS[0] / 2).astype(int), 0, PARTS[0] - 1)
    down = np.clip(((place[rows].imag / hv + 1) * PARTS[1] / 2).astype(int), 0, PARTS[1] - 1)
    cells = np.unique(np.stack([frames, down * PARTS[0] + across]), axis=1)[0]
    speed = float(np.median(np.abs(rest[rows])))
    if speed < STRAYS * canvas.radius:
        return None
    covered = np.bincount(cells - first) / (PARTS[0] * PARTS[1])
    best = first + int(covered.argmax())
    there = rows[frames == best]
    middle = place[there][np.abs(place[there] - place[there].mean()).argmin()]
    return TrackGroup(
        track_ids=marks,
        first=first,
        last=last,
        frame=best,
        place=complex(middle),
        share=float(covered.max()),
        speed=speed,
        steered=float(steering[rows].mean()),
    )
