"""The scales of character: their units, the names of their ends, and the least difference that is noticed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True, slots=True)
class Noticed:
    """The least difference that is noticed: absolute, or a share of the value; where that is known from."""

    source: str
    absolute: float | None = None
    share: float | None = None

    def at(self, value: float) -> float | None:
        """In the descriptor's unit, about a value."""
        if self.absolute is not None:
            return self.absolute
        return None if self.share is None else self.share * abs(value)


LEVEL_1_DB = Noticed("a level of 1 dB (Zwicker and Fastl 2007, Psychoacoustics)", absolute=1.0)


@dataclass(frozen=True, slots=True)
class Scale:
    """One descriptor: title, unit, the names of its ends, what is noticed; of_sound: it follows from the source, its
    pitch and its level too."""

    name: str
    title: str
    unit: str
    low: str
    high: str
    noticed: Noticed
    of_sound: bool = False


SCALES: tuple[Scale, ...] = (
    Scale("brightness", "Brightness", "octaves", "dark", "bright",
          Noticed("5 % of the centroid (Allen and Oxenham 2014, JASA)", absolute=float(np.log2(1.05))), True),
    Scale("sharpness", "Sharpness", "acum", "dull", "sharp",
          Noticed("0.08 acum (You and Jeon 2008, NCEJ)", absolute=0.08), True),
    Scale("body", "Body", "dB", "thin", "full", LEVEL_1_DB, True),
    Scale("edge", "Edge", "dB", "soft edge", "hard edge", LEVEL_1_DB),
    Scale("peak", "Peak", "dB", "no peak", "high peak", LEVEL_1_DB),
    Scale("bass_kept", "Bass kept", "dB", "loses its bass", "keeps its bass", LEVEL_1_DB),
    Scale("grit", "Grit", "%", "clean", "gritty",
          Noticed("1 dB of its harmonics (Zwicker and Fastl 2007, Psychoacoustics)", share=10 ** (1 / 20) - 1)),
    Scale("roughness", "Roughness", "asper", "smooth", "rough",
          Noticed("17 % (Zwicker and Fastl 2007, Psychoacoustics)", share=0.17), True),
    Scale("whistle_share", "Whistle share", "%", "no whistle", "all whistle",
          Noticed("1 dB of the whistle (Zwicker and Fastl 2007, Psychoacoustics)", share=10 ** (1 / 10) - 1), True),
    Scale("calm", "Calm, peak level", "dB", "stands", "moves", LEVEL_1_DB),
    Scale("calm_pitch", "Calm, peak frequency", "cents", "stands", "moves",
          Noticed("3 % of a peak's frequency (Flanagan 1955, JASA)",
                  absolute=float(1200 * np.log2(1.03)))),
    Scale("snap", "Snap", "ms", "dry", "ringing",
          Noticed("20 % of a bandwidth (Flanagan 1972, Speech Analysis, Synthesis and Perception)", share=0.2)),
    Scale("evenness", "Evenness", "%", "even control", "sudden control", Noticed("no published threshold")),
)
MORE: tuple[Scale, ...] = (
    Scale("loudness", "Loudness re the source", "LU", "soft", "loud",
          Noticed("0.5 dB of a broad sound (Zwicker and Fastl 2007, Psychoacoustics)", absolute=0.5), True),
    Scale("cutoff_3db_hz", "−3 dB point", "Hz", "low", "high",
          Noticed("5 % (Flanagan 1955, JASA)", share=0.05)),
    Scale("peak_hz", "Peak frequency", "Hz", "low", "high", Noticed("3 % (Flanagan 1955, JASA)", share=0.03)),
)
ALL = (*SCALES, *MORE)  # the last ones beside others only: they say where and how loud, not what it is like
SCALE: Mapping[str, Scale] = {scale.name: scale for scale in ALL}
