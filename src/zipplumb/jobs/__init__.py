"""Operations of a person: a room for each stage of the work, one transaction for each operation."""
