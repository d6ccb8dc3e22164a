"""Forms: what is asked of a person in a dialog."""
