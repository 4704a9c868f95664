"""Tracing: what a program reads and writes, what of it matters, and a recipe drafted from that."""

from widetrail.tracing.record import Trace, load_trace
from widetrail.tracing.script import SUFFIX, TraceFile, load_script
from widetrail.tracing.watching import run_trace

__all__ = ["SUFFIX", "Trace", "TraceFile", "load_script", "load_trace", "run_trace"]
