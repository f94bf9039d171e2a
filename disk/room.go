package disk

// maxReserve is the most room that is left on a disk for what is done there; of a small one a tenth.
const maxReserve = 5 << 30

// Room is how many bytes what is kept in a folder may take, so that its disk does not fill up: at most so many (0: any
// amount that the disk has room for), when it takes now what it does.
func Room(dir string, most, now int64) int64 {
	space, err := Of(dir)
	if err != nil {
		return most
	}
	room := max(1, now+space.Free-min(maxReserve, space.Total/10))
	if most <= 0 {
		return room
	}
	return min(most, room)
}
