"""Workbooks (.xlsx, .xlsm, .ods): read by cells, written by splicing answers into their XML."""
