"""The song "Glasshouse Starlings": invented words and melody, and who sings when.

A line is a list of syllables: consonants, a vowel, consonants, the note (MIDI)
and its length in beats. ``!`` before a consonant marks one sung too sharp, ``*``
one that blows into the microphone.
"""

from __future__ import annotations

from dataclasses import dataclass, field

BEAT_S = 0.44
LINE_BEATS = 12
BREATH_S = 0.62

Line = tuple[str, ...]

# glass-house star-lings stitch the sil-ver sky
# six small sha-dows slip a-cross the sill
# fea-thers fall and frost is on the vine
# she sings to each one till the house is still
# chase the chill a-way, just keep the place
# soft as ash, a sin-gle se-cret sound
# half a thou-sand wings and half a face
# sea-sons turn the glass-house round and round
VERSES: tuple[Line, ...] = (
    (
        "g l ae s/62/1",
        "h aU s/62/1",
        "!s t a r/65/1",
        "l I ng z/64/1",
        "s t I ch/62/.75",
        "dh @/60/.5",
        "s I l/62/.75",
        "v er/64/.75",
        "!s k aI/65/2.5",
    ),
    (
        "s I k s/62/.75",
        "s m O l/62/1",
        "!sh ae/65/.75",
        "d oU z/67/1",
        "s l I p/65/.75",
        "@/64/.5",
        "k r O s/62/1",
        "dh @/60/.5",
        "!s I l/57/2.5",
    ),
    (
        "f e/57/.75",
        "dh er z/60/1",
        "f O l/62/1.25",
        "ae n d/60/.5",
        "f r O s t/65/1.25",
        "I z/64/.5",
        "O n/62/.5",
        "dh @/62/.5",
        "v aI n/60/2.5",
    ),
    (
        "sh i/60/.75",
        "!s I ng z/62/1",
        "t u/62/.5",
        "i ch/65/.75",
        "w V n/67/.75",
        "t I l/65/.5",
        "dh @/64/.5",
        "h aU s/62/1.25",
        "I z/60/.5",
        "s t I l/57/2.5",
    ),
    (
        "!ch eI s/65/1",
        "dh @/65/.5",
        "ch I l/67/.75",
        "@/65/.5",
        "w eI/64/1",
        "j V s t/62/.75",
        "k i p/64/.75",
        "dh @/62/.5",
        "p l eI s/60/2.5",
    ),
    (
        "s O f t/62/1",
        "ae z/62/.5",
        "!ae sh/65/1.25",
        "@/64/.5",
        "s I ng/62/.75",
        "g @ l/60/.5",
        "s i/62/.75",
        "k r @ t/64/.5",
        "s aU n d/65/2.5",
    ),
    (
        "h ae f/60/1",
        "@/60/.5",
        "th aU/62/.75",
        "z @ n d/64/.75",
        "w I ng z/65/1.25",
        "ae n d/64/.5",
        "h ae f/62/1",
        "@/60/.5",
        "f eI !s/57/2.5",
    ),
    (
        "!s i/65/.75",
        "z @ n z/64/.75",
        "t er n/62/1",
        "dh @/60/.5",
        "g l ae s/62/.75",
        "h aU s/64/1",
        "r aU n d/65/1",
        "ae n d/62/.5",
        "r aU n d/62/3",
    ),
)

# bright birds un-der pa-per glass
# bring the branch-es back to place
CHORUS: tuple[Line, ...] = (
    (
        "*b r aI t/65/1",
        "b er d z/69/1.25",
        "V n/67/.5",
        "d er/65/.75",
        "*p eI/67/1",
        "p er/65/.5",
        "g l ae !s/62/2.75",
    ),
    (
        "b r I ng/65/.75",
        "dh @/64/.5",
        "*b r ae n/62/1",
        "ch I z/64/.75",
        "b ae k/65/1",
        "t u/62/.5",
        "*p l eI !s/60/3",
    ),
)
# oh, star-ling — oh, stay — si-lent sill
CALLS: tuple[Line, ...] = (
    ("oU/69/1.5", "s t a r/72/1", "l I ng/70/2"),
    ("oU/67/1", "s t eI/69/3"),
    ("s aI/65/1", "l @ n t/67/1", "s I l/65/2"),
)
_SCALE = (0, 2, 3, 5, 7, 8, 10)  # natural minor on D
_KEY = 62

# which line of the song is a chorus; each line takes twelve beats
SONG: tuple[Line, ...] = (*VERSES[:3], *CHORUS, *VERSES[3:6], *CHORUS, *VERSES[6:], *CHORUS)
CHORUS_AT = (3, 8, 12)


@dataclass(frozen=True)
class Slip:
    """How one syllable was sung on purpose: ``moved_s``: its start (early: negative); ``held_s``: longer by as much."""

    moved_s: float = 0.0
    held_s: float = 0.0
    missing: bool = False


@dataclass(frozen=True)
class Placed:
    """A line and the second at which its singing starts; ``slips``: of its syllables, by number."""

    at: float
    line: Line
    slips: dict[int, Slip] = field(default_factory=dict)


def line_at(index: int) -> float:
    """The second at which the singing of a line of the song starts, its breath before it."""
    return 1.2 + index * LINE_BEATS * BEAT_S


def whole_song() -> list[Placed]:
    """All lines, as the lead sings them."""
    return [Placed(line_at(i), line) for i, line in enumerate(SONG)]


def choruses(steps: int = 0, slips: dict[int, dict[int, Slip]] | None = None) -> list[Placed]:
    """The three choruses, each note moved by ``steps`` of the scale; ``slips``: by line, then by syllable."""
    places = [(at + i, line) for at in CHORUS_AT for i, line in enumerate(CHORUS)]
    return [
        Placed(line_at(at), tuple(_moved(s, steps) for s in line), (slips or {}).get(n, {}))
        for n, (at, line) in enumerate(places)
    ]


def calls() -> list[Placed]:
    """The ad-libs, between and over the lines of the second half."""
    return [Placed(line_at(i) + 7.5 * BEAT_S, CALLS[n % len(CALLS)]) for n, i in enumerate((4, 7, 9, 11, 13))]


SECONDS = line_at(len(SONG)) + 1.0


def _moved(syllable: str, steps: int) -> str:
    sounds, note, beats = syllable.split("/")
    octave, place = divmod(int(note) - _KEY, 12)
    nearest = min(range(len(_SCALE)), key=lambda i: abs(_SCALE[i] - place))
    octaves, degree = divmod(nearest + steps, len(_SCALE))
    return f"{sounds}/{_KEY + 12 * (octave + octaves) + _SCALE[degree]}/{beats}"
