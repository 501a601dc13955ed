"""Parameters that several circuits share, said once so that they mean the same everywhere."""

from jiyuu.circuits.circuit import Parameter

COMPENSATION = Parameter(
    "compensation", "", 0.0, 0.0, 1.0,
    "Share of the passband loss that is made good as resonance rises: input gain 1 + c·k", "Resonance",
)
FEEDBACK_COUPLING_HZ = Parameter(
    "feedback_coupling_hz", "Hz", 0.0, 0.0, 1000.0,
    "Corner of the coupling capacitor in the feedback path; the bass below it is not lost; 0 is direct", "Resonance",
)
INPUT_GAIN = Parameter("input_gain", "", 1.0, 0.01, 20.0, "Gain of the input buffer ahead of the loop", "Levels")


def stage_headroom(default_v: float = 1.0) -> Parameter:
    """H_s of the stages."""
    return Parameter(
        "stage_headroom_v", "V", default_v, 0.01, 100.0,
        "Voltage at which a stage begins to saturate, at the panel", "Levels",
    )


def feedback_headroom(default_v: float = 1.0) -> Parameter:
    """H_f of the limiter in the feedback path."""
    return Parameter(
        "feedback_headroom_v", "V", default_v, 0.01, 100.0,
        "Voltage at which the limiter in the feedback path takes hold", "Levels",
    )


def stage_mismatch(stages: int) -> tuple[Parameter, ...]:
    """Rate of each stage against the nominal one, in percent."""
    return tuple(
        Parameter(
            f"stage_{i}_mismatch_percent", "%", 0.0, -50.0, 100.0,
            f"How much faster stage {i} runs than its drawing (capacitor tolerance)", "Stages",
        )
        for i in range(1, stages + 1)
    )
