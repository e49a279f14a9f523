"""The first take of "Glasshouse Starlings": invented words and melody.

A line is a list of syllables: consonants, a vowel, consonants, the note (MIDI)
and its length in beats. ``!`` before a consonant marks one sung too sharp.
"""

from __future__ import annotations

BEAT_S = 0.46
BREATH_S = 0.62

# glass-house star-lings stitch the sil-ver sky
# six small sha-dows slip a-cross the sill
# fea-thers fall and frost is on the vine
# she sings to each one till the house is still
# chase the chill a-way, just keep the place
# soft as ash, a sin-gle se-cret sound
# half a thou-sand wings and half a face
# sea-sons turn the glass-house round and round
LINES: tuple[tuple[str, ...], ...] = (
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
