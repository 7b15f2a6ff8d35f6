"""What there is: sites, devices, interfaces, components, and how devices are spoken to."""
