"""What one user's operations share: directories, settings, nodes, project, ledger, queue; and who answers questions."""
