"""Where the resonances of vowels lie."""

# Men's averages, Hz (Peterson and Barney 1952, JASA).
VOWELS: dict[str, tuple[float, float, float]] = {
    "i": (270, 2290, 3010), "ɪ": (390, 1990, 2550), "ɛ": (530, 1840, 2480), "æ": (660, 1720, 2410),
    "ɑ": (730, 1090, 2440), "ɔ": (570, 840, 2410), "ʊ": (440, 1020, 2240), "u": (300, 870, 2240),
    "ʌ": (640, 1190, 2390), "ɝ": (490, 1350, 1690),
}
BANDWIDTHS_HZ = (60.0, 90.0, 120.0)
