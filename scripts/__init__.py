"""Development tools: benchmarks and screenshots."""
