//! Names that unattended set-up has of its own: languages, keyboards and time zones.

/// Language tag (BCP 47) and keyboard: language identifier and layout, as set-up reads them.
pub(super) fn language(locale: &str) -> Option<String> {
    let place = locale.strip_suffix(".UTF-8")?;
    place.contains('_').then(|| place.replace('_', "-"))
}

/// A keyboard by its XKB layout and variant.
pub(super) fn keyboard(layout: &str) -> Option<&'static str> {
    KEYBOARDS.iter().find(|(xkb, _)| *xkb == layout).map(|(_, name)| *name)
}

/// A time zone by its IANA name, as Unicode's table of time zones has it.
pub(super) fn time_zone(iana: &str) -> Option<&'static str> {
    ZONES.iter().find(|(_, names)| names.split(' ').any(|name| name == iana)).map(|(zone, _)| *zone)
}

const KEYBOARDS: [(&str, &str); 39] = [
    ("us", "0409:00000409"),
    ("us(intl)", "0409:00020409"),
    ("us(dvorak)", "0409:00010409"),
    ("gb", "0809:00000809"),
    ("ie", "1809:00001809"),
    ("ca", "0c0c:00001009"),
    ("ca(eng)", "1009:00000409"),
    ("ca(multix)", "0c0c:00011009"),
    ("de", "0407:00000407"),
    ("at", "0c07:00000407"),
    ("ch", "0807:00000807"),
    ("ch(fr)", "100c:0000100c"),
    ("fr", "040c:0000040c"),
    ("be", "080c:0000080c"),
    ("nl", "0413:00020409"),
    ("lu", "046e:0000046e"),
    ("es", "040a:0000040a"),
    ("latam", "080a:0000080a"),
    ("pt", "0816:00000816"),
    ("br", "0416:00000416"),
    ("it", "0410:00000410"),
    ("dk", "0406:00000406"),
    ("no", "0414:00000414"),
    ("se", "041d:0000041d"),
    ("fi", "040b:0000040b"),
    ("is", "040f:0000040f"),
    ("fo", "0438:00000438"),
    ("ee", "0425:00000425"),
    ("lv", "0426:00000426"),
    ("lt", "0427:00010427"),
    ("pl", "0415:00000415"),
    ("cz", "0405:00000405"),
    ("sk", "041b:0000041b"),
    ("hu", "040e:0000040e"),
    ("gr", "0408:00000408"),
    ("tr", "041f:0000041f"),
    ("tr(f)", "041f:0001041f"),
    ("ru", "0419:00000419"),
    ("jp", "0411:{03B5835F-F03C-411B-9CE2-AA23E1171E36}{A76C93D9-5523-4E90-AAFA-4DB112F9AC76}"),
];

const ZONES: [(&str, &str); 48] = [
    ("UTC", "UTC Etc/UTC"),
    (
        "GMT Standard Time",
        "Europe/London Europe/Dublin Europe/Lisbon Europe/Jersey Europe/Guernsey Europe/Isle_of_Man Atlantic/Faroe Atlantic/Canary Atlantic/Madeira",
    ),
    ("Greenwich Standard Time", "Atlantic/Reykjavik Africa/Accra Africa/Dakar Africa/Abidjan"),
    (
        "W. Europe Standard Time",
        "Europe/Berlin Europe/Amsterdam Europe/Oslo Europe/Stockholm Europe/Vienna Europe/Zurich Europe/Rome Europe/Luxembourg Europe/Monaco Europe/Malta Arctic/Longyearbyen",
    ),
    ("Romance Standard Time", "Europe/Paris Europe/Brussels Europe/Copenhagen Europe/Madrid"),
    (
        "Central Europe Standard Time",
        "Europe/Prague Europe/Budapest Europe/Bratislava Europe/Ljubljana Europe/Belgrade",
    ),
    ("Central European Standard Time", "Europe/Warsaw Europe/Zagreb Europe/Sarajevo Europe/Skopje"),
    (
        "FLE Standard Time",
        "Europe/Helsinki Europe/Tallinn Europe/Riga Europe/Vilnius Europe/Kyiv Europe/Sofia Europe/Mariehamn",
    ),
    ("GTB Standard Time", "Europe/Athens Europe/Bucharest Asia/Nicosia"),
    ("Turkey Standard Time", "Europe/Istanbul"),
    ("Russian Standard Time", "Europe/Moscow"),
    ("Kaliningrad Standard Time", "Europe/Kaliningrad"),
    ("Israel Standard Time", "Asia/Jerusalem"),
    ("Egypt Standard Time", "Africa/Cairo"),
    ("South Africa Standard Time", "Africa/Johannesburg Africa/Maputo Africa/Harare"),
    ("E. Africa Standard Time", "Africa/Nairobi Africa/Addis_Ababa"),
    ("W. Central Africa Standard Time", "Africa/Lagos Africa/Algiers Africa/Tunis"),
    ("Morocco Standard Time", "Africa/Casablanca"),
    ("Arab Standard Time", "Asia/Riyadh Asia/Kuwait"),
    ("Arabian Standard Time", "Asia/Dubai Asia/Muscat"),
    ("Iran Standard Time", "Asia/Tehran"),
    ("Pakistan Standard Time", "Asia/Karachi"),
    ("India Standard Time", "Asia/Kolkata"),
    ("Bangladesh Standard Time", "Asia/Dhaka"),
    ("SE Asia Standard Time", "Asia/Bangkok Asia/Jakarta Asia/Ho_Chi_Minh"),
    ("China Standard Time", "Asia/Shanghai Asia/Hong_Kong Asia/Macau"),
    ("Singapore Standard Time", "Asia/Singapore Asia/Kuala_Lumpur Asia/Manila"),
    ("Taipei Standard Time", "Asia/Taipei"),
    ("Tokyo Standard Time", "Asia/Tokyo"),
    ("Korea Standard Time", "Asia/Seoul"),
    ("W. Australia Standard Time", "Australia/Perth"),
    ("Cen. Australia Standard Time", "Australia/Adelaide"),
    ("AUS Eastern Standard Time", "Australia/Sydney Australia/Melbourne"),
    ("E. Australia Standard Time", "Australia/Brisbane"),
    ("Tasmania Standard Time", "Australia/Hobart"),
    ("New Zealand Standard Time", "Pacific/Auckland"),
    ("Azores Standard Time", "Atlantic/Azores"),
    ("Greenland Standard Time", "America/Nuuk"),
    ("Newfoundland Standard Time", "America/St_Johns"),
    ("Atlantic Standard Time", "America/Halifax Atlantic/Bermuda"),
    ("Eastern Standard Time", "America/New_York America/Toronto America/Detroit"),
    ("Central Standard Time", "America/Chicago America/Winnipeg"),
    ("Mountain Standard Time", "America/Denver America/Edmonton"),
    ("Pacific Standard Time", "America/Los_Angeles America/Vancouver"),
    ("Alaskan Standard Time", "America/Anchorage"),
    ("Hawaiian Standard Time", "Pacific/Honolulu"),
    ("E. South America Standard Time", "America/Sao_Paulo"),
    ("Argentina Standard Time", "America/Argentina/Buenos_Aires"),
];
