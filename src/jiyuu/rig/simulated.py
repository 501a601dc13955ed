"""The simulated rig: a signal interface and a unit under test with faults of its own.

The unit draws its tolerances from a seed and keeps them to itself: the measuring code sees volts in and volts out.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.operating_point import operating_point
from jiyuu.circuits.unit import Drawn, draw_unit
from jiyuu.quantities import volts_of
from jiyuu.rig.protocol import PanelSettings
from jiyuu.signals.controls.follower_kernel import follow
from jiyuu.signals.resampling import taken_at
from jiyuu.simulation.light_element import through_light
from jiyuu.simulation.render import oversampling_for, render, render_each
from jiyuu.stopping import side_by_side

FEEDTHROUGH_S = 0.005


def _lagged(record: FloatArray, samples: float) -> FloatArray:
    """Through one pole of that time constant, settled at the first value when it begins."""
    if samples < 1e-3 or not np.ptp(record):
        return record
    keep = float(np.exp(-1 / samples))
    return follow(np.asarray(record, dtype=float), keep, keep, float(record[0]))


@dataclass(frozen=True, slots=True)
class Interface:
    """The signal interface between computer and unit."""

    sample_rate_hz: float = 48_000.0
    latency_s: float = 0.0123
    clock_offset_ppm: float = 14.0
    full_scale_v: float = 20.0
    bits: int = 24


class SimulatedRig:
    """A Rig with a simulated unit; the same seed gives the same unit, every play new noise."""

    def __init__(self, document: Filter, *, seed: int, interface: Interface | None = None) -> None:
        self._document = document
        self._unit = draw_unit(document, seed)
        self._interface = interface or Interface()
        self._noise = np.random.default_rng([seed, 11])

    @property
    def sample_rate_hz(self) -> float:
        return self._interface.sample_rate_hz

    def play(
        self, stimulus_v: FloatArray, settings: PanelSettings, modes: Sequence[str], *,
        cutoff_cv_v: FloatArray | None = None,
    ) -> FloatArray:
        """Through the unit at the panel settings, then through the interface's converter."""
        if cutoff_cv_v is None:
            return self.play_each(stimulus_v, [settings], modes)[0]
        unit, rate = self._unit, self._interface.sample_rate_hz
        played = self._with_room(stimulus_v)
        drawn, gain = self._standing(settings)
        cutoff_hz = drawn.cutoff_hz(settings.cutoff_hz)
        arriving = self._arriving(cutoff_cv_v, settings.cutoff_hz)
        octaves = self._octaves(drawn, arriving, settings.cutoff_hz)
        rendered = render(
            unit.network, played, sample_rate_hz=rate, cutoff_hz=cutoff_hz, gain=gain, modes=modes,
            cutoff_cv_v=octaves, start_v=operating_point(unit.network, gain=gain).state_v,
            oversampling=oversampling_for(cutoff_hz * 2 ** float(octaves.max())),
        ).output_v
        whole = np.pad(arriving, (0, rendered.shape[1] - arriving.size), mode="edge")
        # What couples over is the change of the control, gone after a few milliseconds.
        thump = unit.feedthrough * (whole - _lagged(whole, FEEDTHROUGH_S * rate))
        return self._recorded(rendered * unit.drawn.level + thump)

    def play_each(
        self, stimulus_v: FloatArray, settings: Sequence[PanelSettings], modes: Sequence[str], *,
        held_v: Sequence[float] | None = None,
    ) -> FloatArray:
        """Side by side through the unit, one after the other through the interface's converter."""
        unit = self._unit
        standing = [self._standing(one) for one in settings]
        gains = np.array([gain for _, gain in standing])
        held = np.zeros(len(settings)) if held_v is None else np.asarray(held_v, dtype=float)
        asked = [one.cutoff_hz * 2.0 ** float(self._arriving(np.full(2, volts), one.cutoff_hz)[-1])
                 for one, volts in zip(settings, held, strict=True)]
        cutoffs = np.array([drawn.cutoff_hz(hz) for (drawn, _), hz in zip(standing, asked, strict=True)])
        rendered = render_each(
            unit.network, self._with_room(stimulus_v), sample_rate_hz=self._interface.sample_rate_hz,
            cutoff_hz=cutoffs, gain=gains, modes=modes, oversampling=oversampling_for(float(cutoffs.max())),
            # Powered long before the sweep: offsets and coupling capacitors have settled.
            start_v=np.stack([operating_point(unit.network, gain=float(gain)).state_v for gain in gains]),
        )
        return self._recorded(rendered * unit.drawn.level)

    def _standing(self, settings: PanelSettings) -> tuple[Drawn, float]:
        """The unit with its trims as they stand, and its loop gain."""
        drawn = self._unit.drawn.at(settings.trims, settings.temperature_c)
        return drawn, self._document.gain_at(settings.resonance_percent) * drawn.gain_factor

    def _with_room(self, stimulus_v: FloatArray) -> FloatArray:
        return np.concatenate([stimulus_v, np.zeros(round(0.3 * self._interface.sample_rate_hz))])

    def _recorded(self, output_v: FloatArray) -> FloatArray:
        """(…, n) as the interface takes it: within the unit's rails, late, by its own clock, with noise, in steps."""
        interface, unit = self._interface, self._unit
        output = np.clip(output_v, -unit.rail_v, unit.rail_v)
        channels = output.reshape(-1, output.shape[-1])
        recorded = np.stack(list(side_by_side(self._converted, channels))).reshape(*output.shape[:-1], -1)
        recorded += self._noise.normal(0, unit.noise_v, recorded.shape)
        step = 2 * interface.full_scale_v / 2**interface.bits
        return np.clip(np.round(recorded / step) * step, -interface.full_scale_v, interface.full_scale_v - step)

    def _arriving(self, cutoff_cv_v: FloatArray, cutoff_hz: float) -> FloatArray:
        """Control volts behind the control path's own slew, and behind the light where there is one."""
        rate = self._interface.sample_rate_hz
        lagged = _lagged(cutoff_cv_v, self._document.tolerances.slew_ms / 1000 * rate)
        entry = self._document.entry
        return through_light(entry, entry.values(self._document.parameters), lagged, rate, cutoff_hz=cutoff_hz)

    def _octaves(self, drawn: Drawn, control_v: FloatArray, cutoff_hz: float) -> FloatArray:
        """What the converter makes of control volts on top of the knob, re what it makes of the knob alone; and the
        unit's own drift while it plays."""
        converter, knob = drawn.converter, volts_of(cutoff_hz)
        held = np.flatnonzero(np.diff(control_v, prepend=np.nan))
        # Volts that stand still for long need their converter's answer once.
        if held.size < control_v.size // 8:
            steps = converter.octaves(knob + control_v[held])
            octaves = np.repeat(steps, np.diff(np.append(held, control_v.size)))
        else:
            octaves = converter.octaves(knob + control_v)
        minutes = np.arange(control_v.size) / self._interface.sample_rate_hz / 60
        return np.asarray(octaves - converter.octaves(knob) + drawn.drift_cents_per_min / 1200 * minutes)

    def _converted(self, channel: FloatArray) -> FloatArray:
        """Delayed by the interface's latency and sampled by its own clock."""
        interface = self._interface
        ratio = 1 + interface.clock_offset_ppm * 1e-6
        position = np.arange(channel.size) / ratio - interface.latency_s * interface.sample_rate_hz
        return taken_at(channel, position)
