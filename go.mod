module idlebeacon

go 1.26.8
