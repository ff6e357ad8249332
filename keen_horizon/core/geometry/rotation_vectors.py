"""Rotation matrices and rotation vectors: along the axis, as long as the angle in radians."""

from __future__ import annotations

from typing import Literal

import numpy as np
import scipy

from ..types import Real


def turns_by(vectors: Real) -> Real:
    """``(n, 3, 3)`` of rotation vectors ``(n, 3)``; one of one."""
    return np.asarray(scipy.spatial.transform.Rotation.from_rotvec(vectors).as_matrix())


def vectors_of(turns: Real) -> Real:
    """Rotation vectors ``(n, 3)`` of ``(n, 3, 3)``; one of one.

    >>> vectors_of(turns_by(np.array([0.1, -0.2, 0.3]))).round(6).tolist()
    [0.1, -0.2, 0.3]
    """
    return np.asarray(scipy.spatial.transform.Rotation.from_matrix(turns).as_rotvec())


def turns_about(axis: Literal["x", "y", "z"], angles: Real) -> Real:
    """``(n, 3, 3)`` by ``angles`` ``(n,)``, radians, about one axis.

    >>> turns_about("z", np.array([np.pi / 2]))[0].round(6).tolist()
    [[0.0, -1.0, 0.0], [1.0, 0.0, 0.0], [0.0, 0.0, 1.0]]
    """
    along = np.zeros((len(angles), 3))
    along[:, "xyz".index(axis)] = angles
    return turns_by(along)
