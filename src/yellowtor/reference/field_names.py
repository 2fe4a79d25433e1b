"""The additional fields of a candidate of a reference table, and how candidates are found, in words."""

HOW, ROW = "found by", "id"
WHOLE_NAMES, WITH_POSTCODE = "the whole names", "the street's whole name and the postcode"
WORDS, SPELLING = "words of street and town", "words with errors"
LIST, NAME = "the streets of the town or postcode", "the street's name alone"
PLACE, AREA = "the name of the place", "the area that contains the point"
