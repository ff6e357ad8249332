"""What developers run: benchmarks, screenshots, vendoring."""
