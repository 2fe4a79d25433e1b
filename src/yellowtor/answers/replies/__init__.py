"""Reading a reply: its bytes, its format, what kind of reply it is, and the candidates in it. Pure."""
