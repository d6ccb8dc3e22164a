"""Studies and timings; never part of the test run's verdict."""
