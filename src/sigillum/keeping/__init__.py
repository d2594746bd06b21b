"""Where secrets are kept, behind one port; nothing leaves a keeping place but to whom it is handed."""
