module early.trevak

go 1.26.0
