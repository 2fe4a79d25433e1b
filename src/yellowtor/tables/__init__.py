"""Sources and targets of records: workbooks, text, JSON, Parquet, databases."""
