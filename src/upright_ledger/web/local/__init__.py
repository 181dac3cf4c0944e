"""Servers on this machine: stand-ins, and real ones in temporary folders."""
