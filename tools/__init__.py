"""What tests, benchmarks and pictures share and the product does not need."""
