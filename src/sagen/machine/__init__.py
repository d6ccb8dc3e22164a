"""The simulated machine: a turning shaft, a wheel on it, a sensor circuit, and a recorder clipped to it."""
