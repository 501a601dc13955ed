"""Everything a person reads that is made from numbers: findings, advice, reasons, one file for each subject."""
