"""Where bytes lie: contents and their ranges, files of a source, trees, and regions of a drive."""
