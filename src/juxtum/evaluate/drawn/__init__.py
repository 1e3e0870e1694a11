"""What drawn characteristics are measured from: features of the scan, and frames made of datums."""
