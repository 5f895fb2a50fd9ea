"""How the window looks: tokens, the style sheet made of them, and the icons."""
