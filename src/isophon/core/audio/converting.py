"""Other sample rates: of a whole stream in order, and of any span of a take alone. By soxr, without delay."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from math import gcd

import numpy as np
import soxr

Read = Callable[[int, int], np.ndarray]

_REACH = 512  # periods of the lower rate on either side; soxr's HQ filter is shorter


def converted_frames(frames: int, rate: int, new_rate: int) -> int:
    """How many frames a take has at another rate."""
    return -(-frames * new_rate // rate)


def converted(
    blocks: Iterator[np.ndarray], rate: int, new_rate: int, channels: int, frames: int
) -> Iterator[np.ndarray]:
    """Blocks at another rate; the same blocks where the rates are equal.

    Parameters
    ----------
    blocks : ``(channels, n)`` each.
    rate, new_rate : Hz.
    channels : how many.
    frames : in all, at the new rate.
    """
    if rate == new_rate:
        yield from blocks
        return
    stream = soxr.ResampleStream(rate, new_rate, channels, "float32", "VHQ")
    left = frames
    for block in blocks:
        piece = stream.resample_chunk(np.ascontiguousarray(block.T)).T[:, :left]
        left -= piece.shape[1]
        yield np.ascontiguousarray(piece)
    piece = stream.resample_chunk(np.zeros((0, channels), np.float32), last=True).T[:, :left]
    yield np.pad(piece, ((0, 0), (0, left - piece.shape[1])))


def read_converted(read: Read, rate: int, new_rate: int, start: int, frames: int) -> np.ndarray:
    """A span of a take at another rate.

    It is resampled from a point where both rates have a frame at the same time, so that it equals the same span of
    the complete take.

    Parameters
    ----------
    read : reads the take.
    rate, new_rate : Hz.
    start, frames : the span, counted at ``new_rate``.

    Returns
    -------
    float32 ``(channels, frames)``.
    """
    if rate == new_rate:
        return read(start, frames)
    common = gcd(rate, new_rate)
    up, down = new_rate // common, rate // common
    reach = -(-_REACH // min(up, down))
    first = start // up - reach
    last = -(-(start + frames) // up) + reach
    samples = read(first * down, (last - first) * down)
    resampled = soxr.resample(np.ascontiguousarray(samples.T), rate, new_rate, "HQ").T
    at = start - first * up
    return np.ascontiguousarray(resampled[:, at : at + frames], dtype=np.float32)
