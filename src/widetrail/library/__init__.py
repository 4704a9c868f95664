"""The calls that a program makes: each does what one command does, and prints and asks nothing."""
