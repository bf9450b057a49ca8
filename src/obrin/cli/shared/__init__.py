"""What commands of several rooms use: options, output, progress, answers, redaction."""
