"""Qt models over listings that know no Qt."""
