"""From wishes and a drive to a plan: everything has its place and its reason. Knows no family and no file system."""
