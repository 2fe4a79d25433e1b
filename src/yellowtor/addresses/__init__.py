"""Addresses: parsed, composed from columns, in a canonical form, and compared part by part. Pure."""
