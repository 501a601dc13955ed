"""Two grounds, paper and night, and the inks that tell the filters apart: the same on screens and in print."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Ink:
    """Colour and dash of one filter; a dash pattern in pen widths, empty when solid."""

    colour: str
    dash: tuple[float, ...]


@dataclass(frozen=True, slots=True)
class Palette:
    """Colours by what they mean. rule and strong_rule: lines of figures; edge: borders of what can be operated, at
    least 3:1 on both grounds; chosen: behind what is selected."""

    name: str
    ground: str
    raised: str
    rule: str
    strong_rule: str
    edge: str
    chosen: str
    ink: str
    quiet: str
    attention: str
    stale: str
    inks: tuple[Ink, ...]

    def ink_of(self, letter: str) -> Ink:
        """Of a filter's letter; of a digit, for how one of them stood, from the last ink backwards."""
        first = letter[:1] or "A"
        place = ord("0") - ord(first) if first.isdigit() else ord(first) - ord("A")
        return self.inks[place % len(self.inks)]


_DASHES: tuple[tuple[float, ...], ...] = ((), (5, 2.5), (1.2, 2), (6, 2, 1.2, 2), (10, 3), (6, 2, 1.2, 2, 1.2, 2))


def _inks(*colours: str) -> tuple[Ink, ...]:
    return tuple(Ink(colour, dash) for colour, dash in zip(colours, _DASHES, strict=True))


PAPER = Palette(
    "paper", ground="#F7F4EC", raised="#FFFDF7", rule="#E3DDCE", strong_rule="#C9C1AE", edge="#857D6A",
    chosen="#ECE7DA", ink="#1B2733", quiet="#45525E", attention="#B3261E", stale="#7A5600",
    inks=_inks("#1F5FA8", "#0E6E5B", "#855900", "#7B3F7D", "#7A4B2A", "#4B5C00"),
)
NIGHT = Palette(
    "night", ground="#171C22", raised="#1F262E", rule="#2B343E", strong_rule="#465362", edge="#7A8896",
    chosen="#2C3641", ink="#E8E4DA", quiet="#A9B8C6", attention="#FF7A6B", stale="#E3B04B",
    inks=_inks("#7FB2F0", "#5CC9AE", "#E3B04B", "#D39BD6", "#D2A27C", "#B9CC6A"),
)
PALETTES = {palette.name: palette for palette in (PAPER, NIGHT)}


def contrast(first: str, second: str) -> float:
    """Contrast ratio of two colours '#RRGGBB' (WCAG 2.1)."""

    def luminance(colour: str) -> float:
        parts = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
        linear = [p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    light, dark = sorted((luminance(first), luminance(second)), reverse=True)
    return (light + 0.05) / (dark + 0.05)
