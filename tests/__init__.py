"""Tests of every layer."""

from hypothesis import HealthCheck, settings

# Nothing may hang on the machine being idle, and how long drawn examples take does.
settings.register_profile("busy", suppress_health_check=[HealthCheck.too_slow], deadline=None)
settings.load_profile("busy")
