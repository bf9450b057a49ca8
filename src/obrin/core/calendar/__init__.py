"""What ends on which day: keys, certificates, granted access."""
