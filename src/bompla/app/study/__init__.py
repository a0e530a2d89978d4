"""Study: what makes the groove work, and how near what was made is to it."""
