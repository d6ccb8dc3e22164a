"""From samples to findings. NumPy only; arrays in, arrays and small records out."""
