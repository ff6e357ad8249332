"""Background work: taking files in, measuring, long solves, exports."""
