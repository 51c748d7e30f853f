"""What a drive keeps of its building: where everything lies, its hashes, and how far an unfinished build got."""
