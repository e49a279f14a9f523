"""What is handed over: stems, labels, report."""
