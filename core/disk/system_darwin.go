package disk

import "syscall"

const seekData = 4 // <unistd.h>

func changed(s *syscall.Stat_t) *syscall.Timespec { return &s.Ctimespec }
