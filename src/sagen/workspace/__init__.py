"""Who owns: an opened log, its open job, running recordings, imports and what waits. Typed commands in, typed events out."""
