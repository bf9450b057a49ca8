"""What SNMP agents of any make report, as values by object identifier, and the same written."""
