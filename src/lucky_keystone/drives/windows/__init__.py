"""The drives of a Windows computer, through its control calls.

Run under a real Windows Python with a model of the kernel's disks behind the calls; docs/not-proven-here.md says what
only a real PC shows.
"""
