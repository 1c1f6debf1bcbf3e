"""What several resources are asked for, and how it is taken."""
