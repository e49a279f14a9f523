"""The pictures of the proof: small drawings in SVG 1.1, as data that an HTML page holds itself."""

from __future__ import annotations

import base64
import math
from collections.abc import Callable, Sequence

WIDTH = 660  # pixels of a drawing
HEIGHT = 120  # pixels
_LEFT = 44  # pixels beside it
_RIGHT = 8  # pixels
_TOP = 8  # pixels
_BOTTOM = 20  # pixels
_INK, _SOFT, _RULE, _OVER, _DONE = "#22303A", "#C3B79C", "#DAD1BE", "#B93C26", "#1F7468"
_FONT = 'font-family="sans-serif" font-size="10" fill="#5A6670"'
Line = tuple[Sequence[float], Sequence[float]]


def spectrum(hz: Sequence[float], sung: Sequence[float], cleaned: Sequence[float], words: str) -> str:
    """Levels over frequency, as sung (thin) and cleaned (thick); a data URI."""
    low, high = math.log(50), math.log(20_000)
    top = 10 * math.ceil((max(*sung, *cleaned) + 1) / 10)
    bottom = max(top - 80, 10 * math.floor((min(*sung, *cleaned) - 1) / 10))
    height = _scale(bottom, top)
    xs = [_LEFT + (math.log(max(50.0, f)) - low) / (high - low) * (WIDTH - _LEFT - _RIGHT) for f in hz]
    parts = [_level(level, height, f"{level:+.0f}") for level in range(int(bottom), int(top) + 1, 20)]
    for f in (100, 300, 1_000, 3_000, 10_000):
        x = _LEFT + (math.log(f) - low) / (high - low) * (WIDTH - _LEFT - _RIGHT)
        name = f"{f / 1000:g} kHz" if f >= 1_000 else f"{f} Hz"
        parts.append(f'<line x1="{x:.1f}" y1="{_TOP}" x2="{x:.1f}" y2="{HEIGHT - _BOTTOM}" stroke="{_RULE}"/>')
        parts.append(f'<text x="{x:.1f}" y="{HEIGHT - 6}" text-anchor="middle" {_FONT}>{name}</text>')
    for values, ink, width in ((sung, _SOFT, 1.4), (cleaned, _DONE, 2.0)):
        parts.append(_polyline(xs, [height(max(bottom, v)) for v in values], ink, width))
    return _picture(parts, words)


def skyline(marks: Sequence[Sequence[float]], seconds: float, words: str) -> str:
    """Bars of marks ``(second, height, change)`` over a take's time, the part that came down faint; a data URI."""
    top = max(6.0, max(m[1] for m in marks) + 1)
    bottom = min(min(m[1] + m[2] for m in marks) - 3, 0.0, min(m[1] for m in marks) - 3)
    bottom = max(bottom, top - 90)
    height = _scale(bottom, top)
    step = 10 if top - bottom < 60 else 20 if top - bottom < 120 else 100
    parts = [_level(v, height, f"{v:+d}") for v in range(math.ceil(bottom / step) * step, int(top) + 1, step)]
    floor = HEIGHT - _BOTTOM
    for at, stands, change in marks:
        x = _LEFT + at / max(seconds, 1e-3) * (WIDTH - _LEFT - _RIGHT)
        sung, left = height(min(top, stands)), height(max(bottom, min(top, stands + change)))
        if change < 0:
            parts.append(f'<rect x="{x:.1f}" y="{sung:.1f}" width="2.4" height="{max(0.5, left - sung):.1f}" '
                         f'fill="{_OVER}" fill-opacity="0.4"/>')  # fmt: skip
        parts.append(f'<rect x="{x:.1f}" y="{left:.1f}" width="2.4" height="{max(0.5, floor - left):.1f}" '
                     f'fill="{_INK if change else "#8A949B"}"/>')  # fmt: skip
    for at in range(0, int(seconds) + 1, _every(seconds)):
        x = _LEFT + at / max(seconds, 1e-3) * (WIDTH - _LEFT - _RIGHT)
        parts.append(f'<text x="{x:.1f}" y="{HEIGHT - 6}" {_FONT}>{at // 60}:{at % 60:02d}</text>')
    return _picture(parts, words)


def _every(seconds: float) -> int:
    return next((step for step in (1, 2, 5, 10, 20, 30, 60, 120, 300) if seconds / step <= 12), 600)


def _scale(bottom: float, top: float) -> Callable[[float], float]:
    span = max(1e-6, top - bottom)
    return lambda level: _TOP + (top - level) / span * (HEIGHT - _TOP - _BOTTOM)


def _level(level: float, height: Callable[[float], float], name: str) -> str:
    y = height(level)
    line = f'<line x1="{_LEFT}" y1="{y:.1f}" x2="{WIDTH - _RIGHT}" y2="{y:.1f}" stroke="{_RULE}"/>'
    said = name.replace("-", "−")
    return f'{line}<text x="{_LEFT - 5}" y="{y + 3:.1f}" text-anchor="end" {_FONT}>{said}</text>'


def _polyline(xs: Sequence[float], ys: Sequence[float], ink: str, width: float) -> str:
    points = " ".join(f"{x:.1f},{y:.1f}" for x, y in zip(xs, ys, strict=True))
    return f'<polyline points="{points}" fill="none" stroke="{ink}" stroke-width="{width}"/>'


def _picture(parts: Sequence[str], words: str) -> str:
    title = words.replace("&", "&amp;").replace("<", "&lt;")
    text = (f'<svg xmlns="http://www.w3.org/2000/svg" width="{WIDTH}" height="{HEIGHT}" '
            f'viewBox="0 0 {WIDTH} {HEIGHT}"><title>{title}</title>{"".join(parts)}</svg>')  # fmt: skip
    return "data:image/svg+xml;base64," + base64.b64encode(text.encode()).decode()
