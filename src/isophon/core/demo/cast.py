"""Who sings in the demo, what they sing, and what is wrong with their takes."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import platformdirs

from isophon.core.demo.score import SECONDS, Placed, Slip, calls, choruses, whole_song

RATE = 48_000
LEAD = "Lead"
BAND = "Cue and music"
_EDITION = "5"
_MIDNIGHT_TO_SONG_S = 36_000.0  # the session's recorder started its clock at ten in the morning
_SLIPS = {1: {6: Slip(held_s=0.16)}, 2: {0: Slip(moved_s=-0.12)}, 5: {5: Slip(missing=True)}}  # by line, by syllable


@dataclass(frozen=True)
class Mouth:
    """One singer: ``scale`` of the formants, ``transpose`` in semitones, crest of the S in Hz, its level, seed.

    ``clicks``: how many mouth clicks a take has.
    """

    scale: float = 1.14
    transpose: float = 0.0
    s_peak: float = 6_600.0
    s_db: float = 0.0
    sharp_db: float = 8.0
    voice_dbfs: float = -21.0
    room_dbfs: float = -68.0
    seed: int = 7
    clicks: int = 9


@dataclass(frozen=True)
class Blemishes:
    """What a microphone and a room add. Levels in dBFS, or None for none.

    ``noises``: (start, end, ``"chatter"`` or ``"shuffle"``) in s; ``ring``: Hz,
    dB and Q of a resonance; ``boxy``: the same, low; ``leak_db``: the cue in the
    microphone against full scale of the cue; ``clip_at``: (start, end) shouted too loud.
    """

    hum_hz: float = 50.02
    hum_dbfs: float | None = -62.0
    rumble_dbfs: float | None = -58.0
    hiss_dbfs: float | None = -76.0
    pop_dbfs: float = -13.0
    noises: tuple[tuple[float, float, str], ...] = ()
    ring: tuple[float, float, float] | None = None
    boxy: tuple[float, float, float] | None = None
    leak_db: float | None = -44.0
    clip_at: tuple[float, float] | None = None
    seed: int = 1


_HIGH = Mouth(scale=1.14, s_peak=6_600.0)
_LOW = Mouth(scale=1.0, transpose=-12.0, s_peak=5_200.0, voice_dbfs=-23.0, seed=21)


@dataclass(frozen=True)
class Voice:
    """One take of the demo. ``start``: the second of the song at which its file begins."""

    name: str
    role: str
    singer: str
    lines: list[Placed]
    mouth: Mouth
    blemishes: Blemishes
    loose_s: float = 0.0
    start: float = 0.0
    rate: int = RATE


def voices() -> list[Voice]:
    """All who sing, the lead first."""
    high, low = "Imke Sorrel", "Tobias Quill"
    return [
        Voice(LEAD, "lead", high, whole_song(), _HIGH, Blemishes(
            noises=((42.25, 42.7, "shuffle"),), ring=(2_650.0, 7.0, 9.0), seed=1)),
        Voice("Lead double", "double", high, choruses(),
               Mouth(scale=1.14, s_peak=6_900.0, voice_dbfs=-24.0, seed=11),
               Blemishes(noises=((6.0, 7.4, "chatter"), (32.0, 32.9, "shuffle")), leak_db=-40.0, seed=2), 0.07),
        Voice("High harmony", "harmony", high, choruses(2, _SLIPS),
               Mouth(scale=1.16, s_peak=7_000.0, voice_dbfs=-25.0, seed=12),
               Blemishes(hum_dbfs=-56.0, noises=((8.5, 9.2, "shuffle"), (60.5, 61.6, "chatter")), seed=3), 0.08),
        Voice("Low harmony", "harmony", low, choruses(-2), _LOW,
               Blemishes(boxy=(340.0, 6.0, 3.0), noises=((31.0, 32.4, "chatter"),), leak_db=-38.0, seed=4), 0.08),
        Voice("Ad-libs", "adlib", low, calls(), Mouth(1.0, -12.0, 5_400.0, voice_dbfs=-20.0, seed=22),
               Blemishes(hum_dbfs=None, hiss_dbfs=-68.0, clip_at=(50.9, 52.2), seed=5), 0.05, 22.0, 44_100),
    ]  # fmt: skip


def frames_of(voice: Voice) -> int:
    """How long the take of a voice is."""
    return round((SECONDS - voice.start) * voice.rate)


def time_reference_of(voice: Voice) -> int:
    """Its first frame on the recorder's clock, in frames since midnight."""
    return round((_MIDNIGHT_TO_SONG_S + voice.start) * voice.rate)


def demo_folder() -> Path:
    """Where the demo lies: one folder an edition."""
    return Path(platformdirs.user_cache_dir("isophon")) / f"demo-{_EDITION}"


def labels_path(folder: Path, name: str) -> Path:
    """The file that holds what was sung in a take."""
    return folder / f"{name}.labels.json"
