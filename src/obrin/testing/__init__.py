"""Test suites for those who extend Obrin. They need pytest, which Obrin itself does not."""
