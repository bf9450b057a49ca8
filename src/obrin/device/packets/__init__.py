"""Single packets: filters, ICMP errors, echo, and what was dropped."""
