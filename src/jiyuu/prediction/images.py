"""Where the images of a crusher fall: what is read too seldom comes back around every multiple of its rate."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.measurement.contexts_moving import ImageAt
from jiyuu.measurement.finding import Finding

HIGHEST_HZ = 20_000.0


@dataclass(frozen=True, slots=True, eq=False)
class Images:
    """lines_hz, lines_v (n,): what was played, as much of it as holding leaves; image_hz, image_v and of_hz (m,): every
    image within hearing and what it is the image of."""

    lines_hz: FloatArray
    lines_v: FloatArray
    image_hz: FloatArray
    image_v: FloatArray
    of_hz: FloatArray

    def finding(self, rate_hz: float) -> Finding | None:
        """The loudest image, re the loudest line; None where none is within hearing."""
        if not self.image_v.size or not self.lines_v.max(initial=0.0) > 0:
            return None
        i = int(np.argmax(self.image_v))
        level_db = 20 * np.log10(max(self.image_v[i], 1e-12) / self.lines_v.max())
        return Finding("image_db", float(level_db), "dB", measured=False, context=ImageAt(
            float(self.image_hz[i]), float(self.of_hz[i]), rate_hz))


def images_of(rate_hz: float, lines_hz: FloatArray, lines_v: FloatArray) -> Images:
    """Of lines (n,) in hertz and peak volts, read rate_hz times a second and held: a line f comes back at |m·rate + f|
    for every whole m, each as holding leaves it, |sinc(f/rate)| of it. What rounding to steps adds is no image."""
    reach = int(np.ceil((HIGHEST_HZ + float(lines_hz.max(initial=0.0))) / rate_hz))
    turns = np.concatenate([np.arange(-reach, 0), np.arange(1, reach + 1)])
    signed = lines_hz[:, np.newaxis] + rate_hz * turns
    heard = np.abs(signed) <= HIGHEST_HZ
    volts = np.abs(np.sinc(signed / rate_hz)) * lines_v[:, np.newaxis]
    of_hz = np.broadcast_to(lines_hz[:, np.newaxis], signed.shape)
    return Images(lines_hz, lines_v * np.abs(np.sinc(lines_hz / rate_hz)), np.abs(signed[heard]), volts[heard],
                  of_hz[heard])
