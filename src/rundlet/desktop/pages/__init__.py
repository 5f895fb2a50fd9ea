"""The three columns of the sentence: From, How, To."""
