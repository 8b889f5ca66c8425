package disk

import "syscall"

const seekData = 3 // <unistd.h>

func changed(s *syscall.Stat_t) *syscall.Timespec { return &s.Ctimespec }
