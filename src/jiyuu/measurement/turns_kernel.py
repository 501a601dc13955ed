"""Cosines and sines of a row of angles: the same arithmetic for every one, so that a processor does several at once."""

import numpy as np

from jiyuu.compiled.entry import Row, Table
from jiyuu.compiled.loops import loop

# π/2 in three parts, of which the first two have so few digits that whole multiples of them are exact (Cody and Waite
# 1980, Software Manual for the Elementary Functions).
QUARTER, QUARTER_REST, QUARTER_LAST = 1.5707963267341256, 6.077100506303966e-11, 2.0222662487959506e-21
REACHES = 1e6  # rad, as far as those multiples are exact
ROUNDING = 6755399441055744.0  # 1.5·2⁵²: added and taken off it leaves the nearest whole number


@loop()
def turned(angle: Row) -> Table:
    """(2, n) cosine and sine of angles (n,) in rad, within 2 parts in 10¹⁶."""
    found, far = np.empty((2, angle.size)), 0
    cosine, sine = found[0], found[1]
    for k in range(angle.size):
        far += 0 if abs(angle[k]) < REACHES else 1
    if far:
        for k in range(angle.size):
            cosine[k], sine[k] = np.cos(angle[k]), np.sin(angle[k])
        return found
    for k in range(angle.size):
        quarters = (angle[k] * (2 / np.pi) + ROUNDING) - ROUNDING
        x = ((angle[k] - quarters * QUARTER) - quarters * QUARTER_REST) - quarters * QUARTER_LAST
        z = x * x
        # Least greatest error over a quarter turn (coefficients as in Moshier 1989, Methods and Programs for
        # Mathematical Functions).
        s = x + x * z * (((((1.58962301576546568060e-10 * z - 2.50507477628578072866e-8) * z
                            + 2.75573136213857245213e-6) * z - 1.98412698295895385996e-4) * z
                          + 8.33333333332211858878e-3) * z - 1.66666666666666307295e-1)
        c = 1.0 - 0.5 * z + z * z * (((((-1.13585365213876817300e-11 * z + 2.08757008419747316778e-9) * z
                                        - 2.75573141792967388112e-7) * z + 2.48015872888517045348e-5) * z
                                      - 1.38888888888730564116e-3) * z + 4.16666666666665929218e-2)
        place = quarters - 4.0 * np.floor(0.25 * quarters)
        swapped = place == 1.0 or place == 3.0
        one, other = s if swapped else c, c if swapped else s
        cosine[k] = -one if place == 1.0 or place == 2.0 else one
        sine[k] = -other if place >= 2.0 else other
    return found
