"""What is always in sight beside the bench: the trail, the next check and the suspects."""
