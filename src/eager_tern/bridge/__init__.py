"""Between a source and an MQTT broker."""
