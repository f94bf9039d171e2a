package appfile

import "strings"

// meanings are what the usual permissions of Android let an app do, in the words of those who are asked
// (android.Manifest.permission; the names without their beginning).
var meanings = map[string]string{
	"ACCESS_BACKGROUND_LOCATION": "know where one is, also when it is not open",
	"ACCESS_COARSE_LOCATION":     "know roughly where one is",
	"ACCESS_FINE_LOCATION":       "know exactly where one is",
	"ACCESS_MEDIA_LOCATION":      "know where pictures were taken",
	"ACCESS_NETWORK_STATE":       "see whether there is a network",
	"ACCESS_WIFI_STATE":          "see wireless networks nearby",
	"ACTIVITY_RECOGNITION":       "know how one moves",
	"ANSWER_PHONE_CALLS":         "answer calls",
	"BLUETOOTH":                  "speak with devices nearby",
	"BLUETOOTH_CONNECT":          "speak with devices nearby",
	"BLUETOOTH_SCAN":             "find devices nearby",
	"BODY_SENSORS":               "read the heart rate and the like",
	"CALL_PHONE":                 "call, which may cost",
	"CAMERA":                     "take pictures",
	"FOREGROUND_SERVICE":         "work while it is not open, and show that",
	"GET_ACCOUNTS":               "see the accounts on the device",
	"INTERNET":                   "use the network",
	"MANAGE_EXTERNAL_STORAGE":    "read and change all files; stores ask why",
	"NEARBY_WIFI_DEVICES":        "find devices nearby",
	"NFC":                        "read tags nearby",
	"POST_NOTIFICATIONS":         "send notifications",
	"QUERY_ALL_PACKAGES":         "see which apps there are; stores ask why",
	"READ_CALENDAR":              "read the calendar",
	"READ_CALL_LOG":              "read whom one has called; stores ask why",
	"READ_CONTACTS":              "read contacts",
	"READ_EXTERNAL_STORAGE":      "read files of other apps",
	"READ_MEDIA_AUDIO":           "read recordings and music",
	"READ_MEDIA_IMAGES":          "read pictures",
	"READ_MEDIA_VIDEO":           "read films",
	"READ_PHONE_NUMBERS":         "read the device's number",
	"READ_PHONE_STATE":           "know who calls, and the device's number",
	"READ_SMS":                   "read messages; stores ask why",
	"RECEIVE_BOOT_COMPLETED":     "start when the device does",
	"RECEIVE_SMS":                "receive messages; stores ask why",
	"RECORD_AUDIO":               "listen",
	"REQUEST_INSTALL_PACKAGES":   "install other apps; stores ask why",
	"SCHEDULE_EXACT_ALARM":       "act at an exact time",
	"SEND_SMS":                   "send messages, which may cost; stores ask why",
	"SYSTEM_ALERT_WINDOW":        "draw over other apps",
	"USE_BIOMETRIC":              "ask for one's finger or face",
	"VIBRATE":                    "shake the device",
	"WAKE_LOCK":                  "keep the device awake",
	"WRITE_CALENDAR":             "change the calendar",
	"WRITE_CONTACTS":             "change contacts",
	"WRITE_EXTERNAL_STORAGE":     "change files of other apps",
}

const (
	androidPermission  = "android.permission."
	purposeDescription = "UsageDescription"
)

// meaning is what a permission lets an app do; "" when it is not one of the usual ones.
func meaning(permission string) string {
	if name, is := strings.CutPrefix(permission, androidPermission); is {
		return meanings[name]
	}
	return ""
}
