"""What every room uses and none owns: random generators, jobs, values with described fields, safe files."""
