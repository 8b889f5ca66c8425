package plan

import "oakbarrel/core/disk"

// BoundsFile is where a host's owner says what a plan from the service may do.
var BoundsFile = disk.CommonData(`OakBarrel\bounds.yaml`)
