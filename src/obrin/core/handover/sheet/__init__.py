"""What people get: value sheets, steps, services, and their pages."""
