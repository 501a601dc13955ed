"""The character of a unit from what was recorded of it, on the scales that a drawing is read on.

What is heard of the source is read from several looks at it: their mean, and by Student's t (1908, Biometrika) how far
that may be off."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace

import numpy as np
import scipy

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.character.descriptors import LEAST_PEAK_DB, PAIR, WHISTLE_OCTAVES, Descriptor
from jiyuu.character.drawn import BASS_OCTAVES
from jiyuu.character.scales import ALL
from jiyuu.character.sound import PERIODS, Listening, Played, loudness_db
from jiyuu.measurement.curve_reading import Kind
from jiyuu.measurement.findings import ReadResponse, read_response
from jiyuu.measurement.resonance_curves import body_place_hz
from jiyuu.measurement.response import MeasuredResponse
from jiyuu.measurement.timbre import ROUGHNESS_FRAME_S, roughness_asper, sensation_of
from jiyuu.measurement.uncertain import FEW_DRAWS, Uncertain
from jiyuu.prediction.drive_map import SPAN_OCTAVES
from jiyuu.rig.character_run import LOOKS, CharacterRun
from jiyuu.signals.resampling import taken_at
from jiyuu.signals.source import PITCHED, Source
from jiyuu.stopping import checkpoint

EDGE_S = 0.01  # at either end of a record, where its interpolation reaches outside
CLEAR_DB = 6.0  # over the noise, from which a level is one
SEEN_DB = 20.0  # the same, for a peak
LEAST = 1e-9  # of a value: arithmetic
Top = tuple[Uncertain, Uncertain | None]
WHISTLES = "the unit whistles as it is set, so it has no response at rest"


class _NotHere(Exception):
    """A descriptor cannot be read; the reason."""


def measured_character(
    run: CharacterRun, source: Source, *, cutoff_hz: float, listening: Listening | None = None
) -> dict[str, Descriptor]:
    """Every scale of ALL by its name; cutoff_hz: as it was set."""
    rest = None if run.rest is None else read_response(run.rest)
    from_sweeps: Mapping[str, Callable[[], Uncertain]] = {
        "edge": lambda: _read(rest, "first_octave_drop_db"), "peak": lambda: _peak(rest),
        "cutoff_3db_hz": lambda: _edge_hz(rest), "peak_hz": lambda: _read(rest, "peak_hz"),
        "bass_kept": lambda: _bass_kept(run, cutoff_hz), "grit": lambda: _grit(run), "snap": lambda: _snap(run),
        "calm": lambda: _calm(_tops(run, rest, cutoff_hz)),
        "calm_pitch": lambda: _calm_pitch(_tops(run, rest, cutoff_hz)),
        "evenness": _evenness,
    }
    heard = _heard(run, source, cutoff_hz, listening or Listening())
    found = {}
    for scale in ALL:
        checkpoint()
        try:
            known = heard[scale.name]() if scale.of_sound else from_sweeps[scale.name]()
            found[scale.name] = Descriptor(scale, known.value, max(known.uncertainty, LEAST * abs(known.value)))
        except _NotHere as reason:
            found[scale.name] = Descriptor(scale, None, None, str(reason))
    return found


# Of the source


def _heard(
    run: CharacterRun, source: Source, cutoff_hz: float, listening: Listening
) -> Mapping[str, Callable[[], Uncertain]]:
    looks = _looks(run, source)
    factor = listening.factor(replace(looks[0], input_v=np.concatenate([look.input_v for look in looks]),
                                      output_v=np.concatenate([look.output_v for look in looks])))

    def by(read: Callable[[Played], float]) -> Callable[[], Uncertain]:
        return lambda: _mean([read(look) for look in looks])

    def brightness(look: Played) -> float:
        if source.kind not in PITCHED:
            raise _NotHere(f"{source.kind} has no fundamental to measure it from")
        return float(np.log2(look.output_lines.centroid_hz / source.pitch_hz))

    def body(look: Played) -> float:
        edge = cutoff_hz / 2
        given = look.input_lines
        if source.kind in PERIODS and edge <= source.pitch_hz:
            raise _NotHere(f"the source has nothing under {edge:.4g} Hz, half the cutoff")
        return float(10 * np.log10(max(look.output_lines.under(edge), 1e-30) / given.under(edge)))

    def roughness(look: Played) -> float:
        # Where everything repeats, two frames say as much as many.
        size = int(np.ceil(2 * ROUGHNESS_FRAME_S * look.rate_hz)) if look.periodic else look.output_v.size
        return roughness_asper(look.output_v[:size] * factor, look.rate_hz)

    def whistle(look: Played) -> float:
        if run.whistle is None:
            return 0.0
        lines = look.output_lines
        return 100 * lines.around(run.whistle.frequency_hz.value, WHISTLE_OCTAVES) / lines.total

    return {
        "brightness": by(brightness), "body": by(body), "roughness": by(roughness), "whistle_share": by(whistle),
        "sharpness": by(lambda look: sensation_of(look.output_v * factor, look.rate_hz).sharpness_acum),
        "loudness": by(lambda look: loudness_db(look.output_v, look.rate_hz)
                       - loudness_db(look.input_v, look.rate_hz)),
    }


def _looks(run: CharacterRun, source: Source) -> list[Played]:
    """What repeats is brought to the player's clock and to a whole number of samples a period, each look beginning as
    the others do: what they then differ by is what is not known, and not where each began."""
    rate, sound = run.sample_rate_hz, run.sound
    ppm = 0.0 if run.rest is None or run.rest.clock_offset_ppm is None else run.rest.clock_offset_ppm.value
    repeats = source.kind in PERIODS and run.whistle is None
    looked_s = (sound.recording_v.size / rate - 2 * EDGE_S) / LOOKS
    if repeats:
        begins_hz = source.pitch_hz / PERIODS[source.kind]
        samples = int(np.ceil(rate / begins_hz - 1e-9))
        new_rate, size = samples * begins_hz, samples * int(looked_s * begins_hz)
    else:
        new_rate, size = rate, int(looked_s * rate)
    places = (EDGE_S + np.arange(LOOKS * size) / new_rate) * rate
    played, heard = taken_at(sound.stimulus_v, places), taken_at(sound.recording_v, places * (1 + 1e-6 * ppm))
    return [Played(source, played[i : i + size], heard[i : i + size], new_rate, repeats)
            for i in range(0, LOOKS * size, size)]


def _mean(looks: list[float]) -> Uncertain:
    spread = float(np.std(looks, ddof=1)) / np.sqrt(len(looks))
    return Uncertain(float(np.mean(looks)), float(scipy.special.stdtrit(len(looks) - 1, 0.975)) * spread)


# Of the sweeps and the tone


def _read(rest: ReadResponse | None, name: str) -> Uncertain:
    if rest is None:
        raise _NotHere(WHISTLES)
    value = getattr(rest.reading, name)
    if value is None:
        raise _NotHere("the measured response has none that can be read")
    return Uncertain(abs(value) if name.endswith("_db") else value, rest.uncertainty.get(name, 0.0))


def _peak(rest: ReadResponse | None) -> Uncertain:
    if rest is not None and rest.reading.peak_db is None:
        return Uncertain(0.0, rest.uncertainty.get("passband_db", LEAST_PEAK_DB))
    return _read(rest, "peak_db")


def _edge_hz(rest: ReadResponse | None) -> Uncertain:
    name = "cutoff_3db_hz" if rest is None or rest.reading.cutoff_3db_hz is not None else "high_3db_hz"
    return _read(rest, name)


def _level(response: MeasuredResponse, hertz: float) -> Uncertain:
    frequency = response.frequency_hz
    if not frequency[0] <= hertz <= frequency[-1] or np.interp(hertz, frequency, response.snr_db) < CLEAR_DB:
        raise _NotHere(f"at {hertz:.4g} Hz the noise is too strong, or the sweep does not reach there")
    return Uncertain(float(np.interp(hertz, frequency, response.level_db)),
                     float(np.interp(hertz, frequency, response.level_uncertainty_db)))


def _bass_kept(run: CharacterRun, cutoff_hz: float) -> Uncertain:
    if run.rest is None or run.open is None:
        raise _NotHere(WHISTLES)
    here, none = (_level(one, cutoff_hz * 2**-BASS_OCTAVES) for one in (run.rest, run.open))
    return Uncertain(here.value - none.value, float(np.hypot(here.uncertainty, none.uncertainty)))


def _grit(run: CharacterRun) -> Uncertain:
    if run.tone is None:
        raise _NotHere("the unit whistles, so what it adds to a tone is not defined")
    level = run.tone.levels[-1]
    return level.thd_percent


def _snap(run: CharacterRun) -> Uncertain:
    if run.rest is None:
        raise _NotHere("the unit whistles, so it rings without end")
    if run.rest.network is None:
        raise _NotHere("no network explains its response, so its poles are not known")
    value = _rings_ms(run.rest.network.fit.poles)
    drawn = [abs(_rings_ms(one.poles) - value) for one in run.rest.network.drawn]
    return Uncertain(value, FEW_DRAWS * float(np.quantile(drawn, 0.95)))


def _rings_ms(poles: ComplexArray) -> float:
    pairs = poles[np.abs(poles.imag) > PAIR * np.abs(poles)]
    slowest = float(np.abs((pairs if pairs.size else poles).real).min())
    return 1e3 * float(np.log(1000)) / max(slowest, 1e-3)


def _calm(tops: list[Top]) -> Uncertain:
    """How far the height of the peak moves over the levels that were played."""
    return _moved([height for height, _ in tops])


def _calm_pitch(tops: list[Top]) -> Uncertain:
    """The same of its frequency, cents."""
    pitches = [pitch for _, pitch in tops if pitch is not None]
    if not pitches:
        raise _NotHere("there is no peak whose frequency could move")
    octaves = _moved(pitches)
    return Uncertain(1200 * octaves.value, 1200 * octaves.uncertainty)


def _moved(values: list[Uncertain]) -> Uncertain:
    high, low = max(values, key=lambda one: one.value), min(values, key=lambda one: one.value)
    return Uncertain(high.value - low.value, float(np.hypot(high.uncertainty, low.uncertainty)))


def _tops(run: CharacterRun, rest: ReadResponse | None, cutoff_hz: float) -> list[Top]:
    if rest is None:
        raise _NotHere(WHISTLES)
    return [_top(response, rest.reading.kind, cutoff_hz) for response in run.loud]


def _top(response: MeasuredResponse, kind: Kind, cutoff_hz: float) -> Top:
    """(height of the peak over the body, a bandpass's own level; octaves of its frequency, None where none stands)."""
    octaves = np.log2(response.frequency_hz)
    seen = (response.snr_db > SEEN_DB) & (np.abs(octaves - np.log2(cutoff_hz)) <= SPAN_OCTAVES + 1e-9)
    if seen.sum() < 3:
        raise _NotHere("the noise is too strong to see a peak")
    body = int(np.argmin(np.abs(octaves - np.log2(body_place_hz(kind, cutoff_hz)))))

    def read(level_db: FloatArray) -> tuple[float, float]:
        top = int(np.argmax(np.where(seen, level_db, -np.inf)))
        top = min(max(top, 1), level_db.size - 2)
        left, middle, right = level_db[top - 1 : top + 2]
        bend = left - 2 * middle + right
        aside = float(np.clip(0.5 * (left - right) / bend, -0.5, 0.5)) if bend < 0 else 0.0
        height = middle - 0.25 * (left - right) * aside
        return float(height - (0.0 if kind is Kind.BANDPASS else level_db[body])), float(
            octaves[top] + aside * (octaves[1] - octaves[0]))

    height, pitch = read(response.level_db)
    levels = 20 * np.log10(np.maximum(np.abs(response.draws), 1e-20))
    drawn = np.array([read(one) for one in levels])
    apart = FEW_DRAWS * np.quantile(np.abs(drawn - (height, pitch)), 0.95, axis=0)
    if kind is Kind.BANDPASS:
        return Uncertain(height, float(apart[0])), Uncertain(pitch, float(apart[1]))
    low, high = octaves[seen][[0, -1]]
    # At the edge of what is looked at nothing stands out: the curve only goes on rising.
    inside = low < pitch - 0.01 and pitch + 0.01 < high
    stands = inside and height > max(LEAST_PEAK_DB, float(apart[0]))
    over = Uncertain(max(height, 0.0) if inside else 0.0, float(apart[0]))
    return over, Uncertain(pitch, float(apart[1])) if stands else None


def _evenness() -> Uncertain:
    raise _NotHere("it is measured over the whole control, at Resonance")
