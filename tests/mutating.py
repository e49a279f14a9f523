"""Files as damage or a stranger would change them."""

import json

VALUES = [None, True, 0, -1, 7, 10**6, 10**17, -(10**30), 1e300, -0.0, "", "../../x", "\x1b[2J", "ä" * 5_000, [], {},
          [[]], [1] * 3_000, {"=": 1}, float("nan"), float("inf")]  # fmt: skip


def bytes_changed(rng, data: bytes) -> bytes:
    """Bytes flipped, cut, zeroed, put in or doubled at random places, often near the beginning, where headers are."""
    data = bytearray(data)
    for _ in range(rng.choice([1, 1, 2, 5])):
        at = rng.randrange(min(len(data), 120)) if rng.random() < 0.6 else rng.randrange(len(data))
        how = rng.randrange(6)
        if how == 0:
            data[at] = rng.randrange(256)
        elif how == 1:
            data[at : at + 4] = rng.choice([b"\xff" * 4, bytes(4), b"\x7f\xff\xff\xff", b"\xff\xff\xff\x7f"])
        elif how == 2:
            del data[at : at + rng.choice([1, 4, 500])]
        elif how == 3:
            data[at:at] = bytes(rng.randrange(256) for _ in range(rng.choice([1, 4, 60])))
        elif how == 4:
            del data[max(20, at) :]
        else:
            data[at:at] = data[at : at + 300]
        if len(data) < 20:
            data += bytes(20)
    return bytes(data)


def places(value, at=()):
    """All places of a tree of JSON values."""
    yield at
    if isinstance(value, dict | list):
        for key in value if isinstance(value, dict) else range(len(value)):
            yield from places(value[key], (*at, key))


def value_changed(rng, text: str) -> str:
    """One place of a JSON text with another value, or taken away."""
    values = json.loads(text)
    where = rng.choice([p for p in places(values) if p])
    inner = values
    for key in where[:-1]:
        inner = inner[key]
    if rng.random() < 0.15:
        del inner[where[-1]]
    else:
        inner[where[-1]] = rng.choice(VALUES)
    return json.dumps(values)
