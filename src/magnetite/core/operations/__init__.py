"""Operations of the commands: functions on pictures with typed results."""
