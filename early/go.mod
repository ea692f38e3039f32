module early

go 1.26.0
