"""Study: empty until its stage is built."""
