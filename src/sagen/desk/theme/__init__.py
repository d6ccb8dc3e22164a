"""How the desk looks: colours, type, icons, and labels that never take text for markup."""
