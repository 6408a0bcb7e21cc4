"""What the user set: nodes and settings, read with tomllib, written with tomlkit, validated on the way in."""
