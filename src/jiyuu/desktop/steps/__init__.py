"""The views of the steps, one a step, found by the step's key."""

from __future__ import annotations

from importlib import import_module

from jiyuu.bench.step import Step
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.step_view import StepView


def view_of(step: Step, session: Session, measuring: Measuring) -> StepView:
    """Made when the step is first looked at: VIEW of the module named as the step's key."""
    made: StepView = import_module(f"{__name__}.{step.key}").VIEW(session, measuring, step)
    return made
