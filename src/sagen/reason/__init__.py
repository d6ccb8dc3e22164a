"""From evidence to suspects and the next check."""
