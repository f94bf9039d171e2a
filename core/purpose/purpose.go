// Package purpose knows what people must allow an app of iOS, and which keys of its property list say what for
// (Information Property List Key Reference, Cocoa Keys).
package purpose

import "strings"

// Purpose is what a person must allow, how code asks for it, and the keys that say why, any of which will do.
type Purpose struct {
	What  string
	Words []string // classes, and methods of classes that are used for other things, too
	Keys  []string
}

func allowing(what, words string, keys ...string) Purpose {
	return Purpose{what, strings.Split(words, " "), keys}
}

// All lists them.
var All = []Purpose{
	allowing("the camera", "AVCaptureDevice", "NSCameraUsageDescription"),
	allowing("the microphone", "AVAudioRecorder requestRecordPermission", "NSMicrophoneUsageDescription"),
	allowing("where one is", "CLLocationManager", "NSLocationWhenInUseUsageDescription",
		"NSLocationAlwaysAndWhenInUseUsageDescription", "NSLocationAlwaysUsageDescription", "NSLocationUsageDescription"),
	allowing("photos", "PHPhotoLibrary", "NSPhotoLibraryUsageDescription", "NSPhotoLibraryAddUsageDescription"),
	allowing("contacts", "CNContactStore", "NSContactsUsageDescription"),
	allowing("the calendar", "EKEventStore", "NSCalendarsUsageDescription", "NSCalendarsFullAccessUsageDescription",
		"NSCalendarsWriteOnlyAccessUsageDescription", "NSRemindersUsageDescription", "NSRemindersFullAccessUsageDescription"),
	allowing("Bluetooth", "CBCentralManager CBPeripheralManager", "NSBluetoothAlwaysUsageDescription",
		"NSBluetoothPeripheralUsageDescription"),
	allowing("speech", "SFSpeechRecognizer", "NSSpeechRecognitionUsageDescription"),
	allowing("one's face", "LAContext", "NSFaceIDUsageDescription"),
	allowing("one's steps", "CMPedometer CMMotionActivityManager", "NSMotionUsageDescription"),
	allowing("following one across apps", "ATTrackingManager", "NSUserTrackingUsageDescription"),
	allowing("one's health", "HKHealthStore", "NSHealthShareUsageDescription", "NSHealthUpdateUsageDescription"),
	allowing("reading tags nearby", "NFCNDEFReaderSession NFCTagReaderSession", "NFCReaderUsageDescription"),
}
