"""Settled self-oscillation, as a periodic solution found directly instead of waited for.

Over one period the network's equations are collocated at N equidistant phases (a trigonometric polynomial through N
points, differentiated exactly; harmonic balance in its time-domain form). Newton's method finds the waveform and its
frequency together. The way in is by amplitude: at the onset the waveform is the critical pole pair's, and for a given
amplitude of its fundamental the equations tell waveform, frequency *and loop gain*; the amplitude grows until that
gain has reached the one asked for. N doubles until nothing asked about moves any more.

Sources: Nayfeh and Balachandran 1995, Applied Nonlinear Dynamics (periodic solutions); Stuart 1960, Journal of Fluid
Mechanics (amplitude equation near onset, for the start-up time).
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import scipy

from jiyuu.arrays import FloatArray
from jiyuu.circuits.linear import growth_rate, onset, state_space
from jiyuu.circuits.network import Affine, BranchKind, Network
from jiyuu.circuits.operating_point import operating_point
from jiyuu.errors import CircuitError
from jiyuu.signals.transforms import irfft, rfft
from jiyuu.simulation.kernels import integrate
from jiyuu.stopping import checkpoint

HIGHEST_HARMONIC = 20
POINTS = (31, 63, 127, 255, 511)  # over a period
HALF_POINTS = (16, 32, 64, 128, 256)  # over half a period, where the second half is the first upside down
ROUNDS, STARTED = 40, 0.9  # of Newton's; share of the settled amplitude that counts as started
WAITED_STEPS = 8_000_000  # some seconds of work
DISTURBANCE = 1e-3  # share of it at which the clock starts: −60 dB


@dataclass(frozen=True, slots=True, eq=False)
class Oscillation:
    """A settled tone at one output. amplitude_peak_v is its highest excursion from its mean, fundamental_v the
    amplitude of its first harmonic; waveform_v (N,) one period; harmonics_db (20,) re the first; start_up_s from a
    disturbance; points: how many of a period were solved for."""

    frequency_hz: float
    amplitude_peak_v: float
    fundamental_v: float
    dc_v: float
    thd_percent: float
    harmonics_db: FloatArray
    waveform_v: FloatArray
    start_up_s: float
    points: int


def oscillation(network: Network, mode: str, *, cutoff_hz: float, gain: float) -> Oscillation | None:
    """The settled tone at a loop gain; None when the rest state is stable. Raises CircuitError when the growth does
    not end in a periodic tone that can be found."""
    if network.is_modulated:
        raise CircuitError("A filter that moves its own controls is not solved by harmonic balance; render it instead.")
    problem = _Problem(network, cutoff_hz)
    if growth_rate(network, cutoff_hz=cutoff_hz, gain=gain) <= 0:
        return None
    try:
        orbit, read = _balanced(problem, mode, gain)
    except (_NotBalanced, np.linalg.LinAlgError):
        # Stages driven flat, far past their headroom, leave Newton no slope to go by: then patience finds the tone.
        orbit = _waited_for(problem, gain)
        read = _read(problem, orbit, mode)
    return Oscillation(
        frequency_hz=read.frequency_hz, amplitude_peak_v=read.peak_v, fundamental_v=read.harmonics_v[0], dc_v=read.dc_v,
        thd_percent=read.thd_percent,
        harmonics_db=20 * np.log10(np.maximum(read.harmonics_v / read.harmonics_v[0], 1e-20)),
        waveform_v=read.waveform_v,
        start_up_s=_start_up_s(network, orbit, cutoff_hz=cutoff_hz, gain=gain), points=orbit.whole.shape[1],
    )


class _NotBalanced(CircuitError):
    """Newton's method found no orbit; waiting for one may."""


def _balanced(problem: _Problem, mode: str, gain: float) -> tuple[_Orbit, _Read]:
    """The orbit by harmonic balance, points doubled until nothing asked about moves."""
    orbit = _reach(problem, gain)
    previous: _Read | None = None
    for points in problem.points:
        orbit = problem.solved(orbit.at(points), gain=gain)
        read = _read(problem, orbit, mode)
        if previous is not None and read.agrees_with(previous):
            return orbit, read
        previous = read
    raise _NotBalanced(f"The waveform at k = {gain:g} needs more harmonics than are kept.")


def _waited_for(problem: _Problem, gain: float) -> _Orbit:
    """The orbit by simulation from a kick, until period and swing stand still. Raises CircuitError when they do not.

    Points of the orbit stand on the longest grid that _read takes, by cubic interpolation between the steps."""
    network, cutoff_hz = problem.network, problem.cutoff_hz
    headroom = min((b.headroom_v for b in network.branches if b.kind is not BranchKind.LINEAR), default=1.0)
    rest = operating_point(network, gain=gain).state_v
    fastest = 2 * np.pi * cutoff_hz * max(float(network.rate_ratio.max()), 1.0) * (1 + 0.3 * gain)
    step_s = 0.08 / max(fastest, float(network.fixed_rate.max(initial=0.0)))
    count, observers = len(network.capacitors), _observing_all(network)
    states = (rest + 0.5 * headroom * np.cos(np.arange(count)))[np.newaxis, :]
    steps, spent = 20_000, 0
    before: tuple[float, float] | None = None
    while spent < WAITED_STEPS:
        record, states = integrate(
            [observers], u_v=np.zeros((2 * steps + 1, 1)), omega=np.full((1, 1), 2 * np.pi * cutoff_hz),
            gain=np.full((1, 1), gain), half_step_s=step_s / 2, rows=list(range(count)), states=states,
        )
        spent += steps
        tail = record[:, :, 0]
        busiest = int(np.argmax(np.ptp(tail[:, steps // 2 :], axis=1)))
        swing = tail[busiest] - (tail[busiest].max() + tail[busiest].min()) / 2
        rises = np.flatnonzero((swing[:-1] < 0) & (swing[1:] >= 0))
        if rises.size < 6:
            steps = min(2 * steps, WAITED_STEPS // 8)
            before = None
            continue
        crossings = rises + swing[rises] / (swing[rises] - swing[rises + 1])
        period, size = float(np.mean(np.diff(crossings[-5:]))), float(np.ptp(swing[int(crossings[-5]) :]))
        if before is not None and abs(period / before[0] - 1) < 2e-6 and abs(size / before[1] - 1) < 2e-5:
            points = 2 * problem.points[-1] if problem.odd else problem.points[-1]
            at = crossings[-2] + period * np.arange(points) / points
            whole = scipy.interpolate.CubicSpline(np.arange(steps), tail, axis=1)(at)
            states_over = whole[:, : points // 2] if problem.odd else whole
            return _Orbit(np.asarray(states_over), 1 / (period * step_s * cutoff_hz), gain, problem.odd)
        before = (period, size)
    raise CircuitError(
        f"The oscillation at k = {gain:g} had not settled after {1e3 * spent * step_s:.3g} ms of simulation; "
        "choose a gain farther from the onset, or render it."
    )


@dataclass(frozen=True, slots=True, eq=False)
class _Orbit:
    """states (n, points) over one period, or over half of one when the other half is the same upside down; turn:
    frequency in units of the cutoff; gain."""

    states: FloatArray
    turn: float
    gain: float
    odd: bool

    @property
    def whole(self) -> FloatArray:
        """The states over the whole period."""
        return np.concatenate([self.states, -self.states], axis=1) if self.odd else self.states

    def at(self, points: int) -> _Orbit:
        """The same waveform at another number of points."""
        if points == self.states.shape[1]:
            return self
        old, new = self.whole.shape[1], 2 * points if self.odd else points
        spectrum = rfft(self.whole, axis=1)
        fine = np.zeros((self.states.shape[0], new // 2 + 1), dtype=complex)
        kept = min(spectrum.shape[1], fine.shape[1])
        fine[:, :kept] = spectrum[:, :kept] * (new / old)
        return _Orbit(irfft(fine, new, axis=1)[:, :points], self.turn, self.gain, self.odd)

    def scaled(self, factor: float) -> _Orbit:
        """The swing about the mean made larger."""
        mean = 0.0 if self.odd else self.states.mean(axis=1, keepdims=True)
        return _Orbit(mean + factor * (self.states - mean), self.turn, self.gain, self.odd)


class _Problem:
    """The collocated equations: turn·D·x = Ω/ω·W·φ(V·x + Z·φ + offset).

    Every branch shape is odd: without offsets a waveform's second half is its first upside down, and half the points
    do, at an eighth of the work."""

    def __init__(self, network: Network, cutoff_hz: float) -> None:
        self.network = network
        self.cutoff_hz = cutoff_hz
        self.rates = network.rates(cutoff_hz) / (2 * np.pi * cutoff_hz)
        self.n = len(network.capacitors)
        self.odd = not any(branch.offset_v for branch in network.branches)
        self.points = HALF_POINTS if self.odd else POINTS
        self.reach_points = self.points[0] // 2 if self.odd else 15
        self._derivatives: dict[int, FloatArray] = {}

    def phases(self, points: int) -> FloatArray:
        """(points,) rad of the collocation points."""
        return np.asarray((np.pi if self.odd else 2 * np.pi) * np.arange(points) / points)

    def derivative(self, points: int) -> FloatArray:
        """(points, points) exact differentiation of the trigonometric polynomial through the points: an odd number of
        them over a period, or an even number over half a period that continues upside down."""
        if points not in self._derivatives:
            count = 2 * points if self.odd else points
            j = np.arange(count)
            away = (j[:, None] - j[None, :]) % count
            angle = np.pi * np.where(away == 0, 1, away) / count
            shape = 1 / np.tan(angle) if self.odd else 1 / np.sin(angle)
            matrix = np.where(away == 0, 0.0, 0.5 * (-1.0) ** away * shape)
            if self.odd:
                matrix = matrix[:points, :points] - matrix[:points, points:]
            self._derivatives[points] = matrix
        return self._derivatives[points]

    def branches(self, states: FloatArray, gain: float) -> tuple[FloatArray, FloatArray, FloatArray]:
        """φ (m, N), φ' (m, N) and dφ/dx (m, n, N)."""
        network = self.network
        V, Z = network.V.at(gain), network.Z.at(gain)
        points = states.shape[1]
        output = np.zeros((len(network.branches), points))
        slope = np.zeros_like(output)
        by_state = np.zeros((len(network.branches), self.n, points))
        for j, branch in enumerate(network.branches):
            before = np.flatnonzero(Z[j])
            voltage = V[j] @ states + Z[j, before] @ output[before] + branch.offset_v
            output[j], slope[j] = branch.at(voltage)
            inner = np.repeat(V[j][:, None], points, axis=1)
            for i in before:
                inner += Z[j, i] * by_state[i]
            by_state[j] = slope[j] * inner
        return output, slope, by_state

    def solved(
        self, orbit: _Orbit, *, gain: float | None = None, amplitude: tuple[int, float] | None = None
    ) -> _Orbit:
        """Newton from an orbit nearby. With `gain` given the phase is pinned and frequency follows; with `amplitude`
        (state, first-harmonic volts) given, the gain follows as well. Raises CircuitError when it does not settle."""
        n, points = orbit.states.shape
        D = self.derivative(points)
        pinned = int(np.argmax(np.abs(rfft(orbit.whole, axis=1)[:, 1]))) if amplitude is None else amplitude[0]
        theta = self.phases(points)
        cosine, sine = 2 * np.cos(theta) / points, 2 * np.sin(theta) / points
        states, turn = orbit.states.copy(), orbit.turn
        k = orbit.gain if gain is None else gain
        free = 1 if amplitude is None else 2
        size = n * points
        for _ in range(ROUNDS):
            checkpoint()
            output, _, by_state = self.branches(states, k)
            currents = self.rates[:, None] * (self.network.W @ output)
            slope = states @ D.T
            residual = np.concatenate([(turn * slope - currents).ravel(), [sine @ states[pinned]]])
            jacobian = np.zeros((size + free, size + free))
            flow = self.rates[:, None, None] * np.einsum("ij,jkp->ikp", self.network.W, by_state)
            blocks = jacobian[:size, :size].reshape(n, points, n, points)
            index = np.arange(points)
            for i in range(n):
                blocks[i, :, i, :] += turn * D
                for other in range(n):
                    blocks[i, index, other, index] -= flow[i, other]
            jacobian[:size, size] = slope.ravel()
            jacobian[size, pinned * points : (pinned + 1) * points] = sine
            if amplitude is not None:
                step = 1e-6 * max(1.0, abs(k))
                moved = self.rates[:, None] * (self.network.W @ self.branches(states, k + step)[0])
                jacobian[:size, size + 1] = (-(moved - currents) / step).ravel()
                jacobian[size + 1, pinned * points : (pinned + 1) * points] = cosine
                residual = np.append(residual, cosine @ states[pinned] - amplitude[1])
            change = np.linalg.solve(jacobian, -residual)
            scale = np.abs(states).max()
            # A step larger than the waveform itself leaves the neighbourhood in which Newton's model holds.
            share = min(1.0, 0.5 * scale / max(np.abs(change[:size]).max(), 1e-300))
            share = min(share, 0.2 * turn / max(abs(change[size]), 1e-300))
            states = states + share * change[:size].reshape(n, points)
            turn += share * change[size]
            if amplitude is not None:
                k += share * change[size + 1]
            if share == 1.0 and np.abs(change[:size]).max() < 1e-11 * scale + 1e-15 and abs(change[size]) < 1e-12:
                break
        # At the last rounds rounding may be all that still moves. The rest state solves the equations, too.
        still = share == 1.0 and np.abs(change[:size]).max() < 1e-7 * scale
        if still and np.ptp(states[pinned]) > 0.1 * np.ptp(orbit.states[pinned]):
            return _Orbit(states, turn, k, self.odd)
        raise _NotBalanced(f"No settled oscillation was found at k = {k:g}.")


def _reach(problem: _Problem, gain: float) -> _Orbit:
    """From the onset up along the family of orbits, by amplitude, to the gain asked for."""
    network, points = problem.network, problem.reach_points
    start = onset(network, cutoff_hz=problem.cutoff_hz, highest_gain=max(200.0, 2 * gain))
    if start is None:
        raise CircuitError("This circuit has no onset of self-oscillation.")
    system = state_space(network, cutoff_hz=problem.cutoff_hz, gain=start.gain)
    values, vectors = np.linalg.eig(system.A)
    critical = int(np.argmax(values.real + 1e-9 * (values.imag > 0)))
    if abs(values[critical].imag) < 1e-6:
        raise _NotBalanced("This circuit runs away at its onset instead of oscillating.")
    vector = vectors[:, critical]
    pinned = int(np.argmax(np.abs(vector)))
    vector = vector / vector[pinned]
    theta = problem.phases(points)
    shape = np.real(vector[:, None] * np.exp(1j * theta)[None, :])
    rest = operating_point(network, gain=start.gain).state_v[:, None]
    headroom = min((b.headroom_v for b in network.branches if b.kind is not BranchKind.LINEAR), default=1.0)
    amplitude = 0.02 * headroom
    orbit = _Orbit(rest + amplitude * shape, float(abs(values[critical].imag)), start.gain, problem.odd)
    # By amplitude while it grows fast with the gain, by gain once the limiters hold it.
    orbit = problem.solved(orbit, amplitude=(pinned, amplitude))
    if orbit.gain >= gain:
        # The very first orbit lies past the gain: near the onset amplitude goes with the root of the distance.
        share = np.sqrt(max(gain - start.gain, 0.0) / max(orbit.gain - start.gain, 1e-300))
        near = _Orbit(rest + share * (orbit.states - rest), orbit.turn, gain, problem.odd)
        return problem.solved(near, gain=gain)
    while orbit.gain < min(gain, 1.02 * start.gain):
        amplitude *= 1.5
        orbit = problem.solved(orbit.scaled(1.5), amplitude=(pinned, amplitude))
        if amplitude > 1e5 * headroom:
            raise _NotBalanced(f"The oscillation at k = {gain:g} grows without end; the circuit does not limit it.")
    stride = 1.5
    while orbit.gain != gain:
        aim = min(orbit.gain * stride, gain) if orbit.gain < gain else max(orbit.gain / stride, gain)
        try:
            orbit = problem.solved(orbit, gain=aim)
            stride = min(stride**1.5, 4.0)
        except (CircuitError, np.linalg.LinAlgError):
            stride = np.sqrt(stride)
            if stride < 1.001:
                raise _NotBalanced(f"No settled oscillation was found at k = {gain:g}.") from None
    return orbit


@dataclass(frozen=True, slots=True, eq=False)
class _Read:
    frequency_hz: float
    peak_v: float
    dc_v: float
    harmonics_v: FloatArray
    thd_percent: float
    waveform_v: FloatArray

    def agrees_with(self, other: _Read) -> bool:
        """Far inside what anyone asks: a thousandth of a cent, 1e-5 of the level, 1e-3 points of THD."""
        return (
            abs(self.frequency_hz / other.frequency_hz - 1) < 5e-7
            and abs(self.peak_v / other.peak_v - 1) < 1e-5
            and abs(self.thd_percent - other.thd_percent) < 1e-3
        )


def _read(problem: _Problem, orbit: _Orbit, mode: str) -> _Read:
    network, row = problem.network, problem.network.output_index(mode)
    states = orbit.whole
    output, _, _ = problem.branches(states, orbit.gain)
    waveform = network.C.at(orbit.gain)[row] @ states + network.E.at(orbit.gain)[row] @ output
    points = waveform.size
    spectrum = rfft(waveform) / points
    harmonics = np.zeros(HIGHEST_HARMONIC)
    found = 2 * np.abs(spectrum[1 : HIGHEST_HARMONIC + 1])
    harmonics[: found.size] = found
    # The excursion between the points: the same polynomial on a grid sixteen times as fine.
    dense = np.zeros(16 * points // 2 + 1, dtype=complex)
    dense[1 : spectrum.size] = spectrum[1:]
    fine = irfft(dense * (16 * points), 16 * points)
    if harmonics[0] <= 1e-12 * max(np.abs(states).max(), 1e-300):
        raise CircuitError(f"The output '{mode}' does not carry the tone; choose another mode.")
    return _Read(
        frequency_hz=orbit.turn * problem.cutoff_hz, peak_v=float(np.abs(fine).max()), dc_v=float(spectrum[0].real),
        harmonics_v=harmonics, thd_percent=float(100 * np.sqrt(np.sum(harmonics[1:] ** 2)) / harmonics[0]),
        waveform_v=waveform,
    )


def _start_up_s(network: Network, orbit: _Orbit, *, cutoff_hz: float, gain: float) -> float:
    """Time from a disturbance of DISTURBANCE to STARTED of the settled amplitude (of the state that swings most)."""
    swing_v = np.ptp(orbit.whole, axis=1) / 2
    state = int(np.argmax(swing_v))
    settled = float(swing_v[state])
    growth = growth_rate(network, cutoff_hz=cutoff_hz, gain=gain)
    frequency_hz = orbit.turn * cutoff_hz

    def grown(share: float) -> float:
        return share**2 / (1 - share**2)

    # While small it grows exponentially; the amplitude equation carries it up where growth is slow against the tone.
    slow_s = float(np.log(grown(STARTED) / grown(DISTURBANCE)) / (2 * growth))
    if growth / frequency_hz < 0.05:
        return slow_s
    system = state_space(network, cutoff_hz=cutoff_hz, gain=gain)
    values, vectors = np.linalg.eig(system.A)
    vector = vectors[:, int(np.argmax(values.real + 1e-9 * (values.imag > 0)))]
    rest = operating_point(network, gain=gain).state_v
    begun = rest + DISTURBANCE * settled * np.real(vector / vector[state])
    per_period = 256
    step_s = min(1 / (frequency_hz * per_period), 0.02 / (2 * np.pi * cutoff_hz))
    step_s = min(step_s, 0.5 / max(float(network.fixed_rate.max(initial=0.0)), 1e-9))
    steps = int(2.0 * slow_s / step_s) + 8 * per_period
    record, _ = integrate(
        [_observing_all(network)], u_v=np.zeros((2 * steps + 1, 1)), omega=np.full((1, 1), 2 * np.pi * cutoff_hz),
        gain=np.full((1, 1), gain), half_step_s=step_s / 2, rows=[state], states=begun[np.newaxis, :],
    )
    swing = np.abs(record[0, :, 0] - rest[state])
    reached = np.flatnonzero(swing >= STARTED * settled)
    return float(reached[0] * step_s) if reached.size else slow_s


def _observing_all(network: Network) -> Network:
    """The network with its capacitors' voltages as its outputs."""
    n, m, g = len(network.capacitors), len(network.branches), len(network.gains)
    return replace(
        network, outputs=network.capacitors, C=Affine.constant(np.eye(n), g), D=Affine.constant(np.zeros(n), g),
        E=Affine.constant(np.zeros((n, m)), g),
    )
