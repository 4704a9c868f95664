"""The demo world: stand-in programs, the machines they live on, and recipes for them."""
