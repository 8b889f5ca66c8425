module oakbarrel

go 1.26
