"""What is known of algorithms, devices and clouds: data, apart from any design."""
