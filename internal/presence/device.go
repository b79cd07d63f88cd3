package presence

// Device is what kind of device a session is on, as its client says.
type Device uint8

const (
	NoDevice Device = iota // not said
	Desktop
	Phone
	Tablet
	Machine // a device without a human, as a gauge
)

func (d Device) String() string { return [...]string{"", "desktop", "phone", "tablet", "device"}[d] }

// ParseDevice returns the device of a word; false for an unknown word.
func ParseDevice(word string) (Device, bool) {
	for d := NoDevice; d <= Machine; d++ {
		if d.String() == word {
			return d, true
		}
	}
	return NoDevice, false
}

// Devices is a set of devices.
type Devices uint8

func (d Device) set() Devices {
	if d == NoDevice {
		return 0
	}
	return 1 << d
}

// Words returns the words of the set.
func (d Devices) Words() (words []string) {
	for device := Desktop; device <= Machine; device++ {
		if d&device.set() != 0 {
			words = append(words, device.String())
		}
	}
	return words
}
