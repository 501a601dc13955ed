"""What one module of tests listened to is not kept for the next."""

import pytest

from tests.truths import Recorded


@pytest.fixture(scope="module", autouse=True)
def forgotten(request):
    yield
    for heard in vars(request.module).values():
        if isinstance(heard, Recorded):
            heard.forget()
