"""The fine spectrum: as narrow as it is said to be, levels, notes (ISO 16), partials."""

import numpy as np
import pytest

from isophon.core.takes.fine_spectrum import fine_levels, note_of, over_the_fundamental, partials_of

RATE = 48_000


def tones(*rows: tuple[float, float], seconds: float = 1.5) -> np.ndarray:
    at = np.arange(round(seconds * RATE)) / RATE
    return sum(10 ** (level / 20) * np.sin(2 * np.pi * hz * at) for hz, level in rows)[None].astype(np.float32)


def test_two_tones_ten_hertz_apart_are_two_and_levels_are_those_of_the_tones():
    hz, levels = fine_levels(tones((200.0, -10.0), (210.0, -16.0)), RATE)
    at = {f: levels[int(np.argmin(np.abs(hz - f)))] for f in (200.0, 205.0, 210.0)}
    assert at[205.0] < at[210.0] - 6 and at[200.0] == pytest.approx(-13.0, abs=0.5)  # dBFS of the mean square
    beside = fine_levels(tones((201.45, -10.0)), RATE)[1][int(np.argmin(np.abs(hz - 200.0)))]
    assert beside == pytest.approx(at[200.0] - 3.0, abs=0.3)  # half the power at half of 2.9 Hz (Harris 1978, Hann)


@pytest.mark.parametrize(("hz", "name"), [(440.0, "A4 +0 ct"), (261.63, "C4 +0 ct"), (95.0, "F♯2 +46 ct"),
                                          (455.0, "A♯4 −42 ct")])  # fmt: skip
def test_notes_are_named(hz, name):
    assert note_of(hz) == name


def test_a_partial_over_its_fundamental_is_pointed_at():
    sung = tones(*((220.0 * k, -20.0 - 3 * k) for k in range(1, 12) if k != 7), (7 * 220.0, -18.0))
    found = partials_of(*fine_levels(sung, RATE), 221.0, 8_000.0)
    assert [round(one.hz / 220) for one in found[:11]] == list(range(1, 12))
    assert [one.number for one in over_the_fundamental(found)] == [7]
