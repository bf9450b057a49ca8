"""What SNMP agents of any make tell, as values by object identifier, and the same written."""
