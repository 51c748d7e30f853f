"""HFS Plus, as Apple's Technical Note TN1150 "HFS Plus Volume Format" describes it; cited as TN1150."""
