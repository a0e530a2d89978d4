"""What is doubtful in an analysis, and how each doubt is mended."""
