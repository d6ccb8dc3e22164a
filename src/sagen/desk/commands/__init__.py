"""What the window can be told to do, by subject: each command a function that names the ports it needs."""
