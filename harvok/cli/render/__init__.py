"""What people see. The answer first, then why; colour is never the only carrier of meaning."""
