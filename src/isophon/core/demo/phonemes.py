"""The sounds of the demo singer: vowel formants, consonants and the shapes of their noise.

Formants after the averages of Hillenbrand et al. 1995 (from memory, rounded);
noise shapes after the spectra in Jongman, Wayland & Wong 2000, simplified.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

VOWELS: dict[str, tuple[tuple[float, float, float], ...]] = {
    "a": ((780, 1220, 2600),),
    "ae": ((680, 1720, 2520),),
    "e": ((560, 1850, 2600),),
    "i": ((310, 2280, 3000),),
    "I": ((420, 2000, 2650),),
    "o": ((520, 900, 2500),),
    "O": ((620, 980, 2500),),
    "u": ((340, 950, 2400),),
    "U": ((450, 1100, 2350),),
    "V": ((650, 1280, 2550),),
    "@": ((510, 1420, 2520),),
    "er": ((490, 1320, 1720),),
    "aI": ((760, 1250, 2580), (400, 2050, 2700)),
    "eI": ((540, 1850, 2600), (370, 2150, 2800)),
    "oU": ((540, 980, 2480), (380, 900, 2400)),
    "aU": ((760, 1250, 2550), (430, 1000, 2400)),
}


@dataclass(frozen=True)
class Consonant:
    """Seconds it lasts; its voicing (dB under a vowel, None: unvoiced), noise shape and level (dB over the voice)."""

    seconds: float
    voicing_db: float | None = None
    formants: tuple[float, float, float] = (420, 1500, 2500)
    noise: str = ""
    noise_db: float = 0.0
    closure: float = 0.0  # of it silent, before a burst


CONSONANTS = {
    "s": Consonant(0.150, noise="s", noise_db=-7),
    "sh": Consonant(0.140, noise="sh", noise_db=-6),
    "z": Consonant(0.095, -9, (320, 1500, 2500), "s", -14),
    "ch": Consonant(0.125, noise="sh", noise_db=-7, closure=0.04),
    "j": Consonant(0.100, -12, (320, 1700, 2500), "sh", -13, 0.025),
    "f": Consonant(0.110, noise="f", noise_db=-19),
    "th": Consonant(0.100, noise="f", noise_db=-22),
    "v": Consonant(0.070, -8, (300, 1200, 2400), "f", -30),
    "dh": Consonant(0.060, -8, (320, 1500, 2500), "f", -32),
    "h": Consonant(0.075, noise="h", noise_db=-20),
    "t": Consonant(0.085, noise="t", noise_db=-14, closure=0.045),
    "k": Consonant(0.095, noise="k", noise_db=-15, closure=0.05),
    "p": Consonant(0.085, noise="p", noise_db=-16, closure=0.055),
    "d": Consonant(0.065, -14, (320, 1700, 2600), "t", -24, 0.04),
    "b": Consonant(0.065, -13, (300, 1000, 2300), "p", -26, 0.045),
    "g": Consonant(0.070, -13, (320, 1800, 2300), "k", -25, 0.045),
    "m": Consonant(0.085, -6, (260, 1000, 2200)),
    "n": Consonant(0.075, -6, (280, 1500, 2500)),
    "ng": Consonant(0.085, -7, (280, 1900, 2500)),
    "l": Consonant(0.070, -4, (370, 1050, 2700)),
    "r": Consonant(0.075, -4, (400, 1150, 1650)),
    "w": Consonant(0.070, -4, (320, 720, 2300)),
    "y": Consonant(0.060, -4, (300, 2200, 2900)),
}
SIBILANTS = ("s", "sh", "z", "ch", "j")


def noise_shape(name: str, freqs: np.ndarray, scale: float, s_peak: float) -> np.ndarray:
    """Magnitude of a noise over ``freqs`` (Hz), mean square 1.

    ``scale``: of the formants; ``s_peak``: crest of the S in Hz.
    """
    f = np.maximum(freqs, 20.0)

    def hump(centre: float, octaves: float, level_db: float = 0.0) -> np.ndarray:
        return 10 ** (level_db / 20) * np.exp(-0.5 * (np.log2(f / centre) / octaves) ** 2)

    shapes = {
        "s": lambda: hump(s_peak, 0.30) + hump(1.6 * s_peak, 0.35, -5) + hump(0.55 * s_peak, 0.3, -20),
        "sh": lambda: hump(0.52 * s_peak, 0.26) + hump(0.9 * s_peak, 0.4, -7) + hump(1.5 * s_peak, 0.4, -16),
        "f": lambda: hump(5_000, 1.3) + hump(9_500, 0.5, -3) + hump(1_300, 0.6, -8),
        "h": lambda: hump(1_100 * scale, 0.45) + hump(2_400 * scale, 0.5, -6) + hump(5_000, 0.8, -20),
        "breath": lambda: hump(1_500 * scale, 0.6) + hump(3_400 * scale, 0.5, -4) + hump(7_000, 0.8, -12),
        "t": lambda: hump(4_800 * scale, 0.6) + hump(2_000, 0.7, -14),
        "k": lambda: hump(2_100 * scale, 0.4) + hump(5_000, 0.8, -16),
        "p": lambda: hump(700, 0.9) + hump(3_000, 1.2, -12),
        "room": lambda: hump(90, 1.2) + hump(400, 1.5, -14) + hump(3_000, 2.0, -26),
    }
    shape = shapes[name]()
    return shape / np.sqrt(np.mean(np.square(shape)))
