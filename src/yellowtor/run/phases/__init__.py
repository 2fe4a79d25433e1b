"""The phases of a run: scan the records, judge the replies, write the answers back."""
