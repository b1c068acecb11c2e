//! Unattended set-up: well-formed, its elements in their order.

use super::*;

#[test]
fn xml_is_well_formed_and_its_elements_stand_in_their_order() {
    let text = main_text("chart", Family::UnattendedXml);
    let (ok, said) = run("xmllint", &["--noout", "-"], &text);
    assert!(ok, "{said}");
    let xpath = |path: &str| {
        let path = path.replace("//", "//*[local-name()='").replace('>', "']/*[local-name()='");
        let (ok, said) = run("xmllint", &["--xpath", &format!("string({path}'])"), "-"], &text);
        assert!(ok, "{path}: {said}");
        said.trim_end_matches('\n').to_owned()
    };
    assert_eq!(xpath("//ComputerName"), "CHART-7");
    assert_eq!(xpath("//OSImage>InstallFrom>MetaData>Value"), "Plimsoll Server Standard");
    assert_eq!(xpath("//LocalAccount>Name"), "navigator");
    assert_eq!(xpath("//TimeZone"), "W. Europe Standard Time");
    let secret = |path: &str, element: &str| {
        let program =
            "import sys,base64; sys.stdout.write(base64.b64decode(sys.stdin.read()).decode('utf-16-le'))";
        let (ok, said) = run("python3", &["-c", program], &xpath(path));
        assert!(ok, "{said}");
        said.strip_suffix(element).unwrap().to_owned()
    };
    assert_eq!(secret("//LocalAccount>Password>Value", "Password"), "nine \"fathoms\" ö");
    assert_eq!(secret("//AdministratorPassword>Value", "AdministratorPassword"), "kittiwake <&> petrel");
    // The order of the passes, and of the elements within the lists, as the reference gives them.
    let at = |needle: &str| text.find(needle).unwrap_or_else(|| panic!("no {needle}"));
    for order in [
        &["pass=\"windowsPE\"", "pass=\"offlineServicing\"", "pass=\"specialize\"", "pass=\"oobeSystem\""][..],
        &["<DiskConfiguration>", "<ImageInstall>", "<UserData>"],
        &["<CreatePartitions>", "<ModifyPartitions>", "<DiskID>0", "<WillWipeDisk>"],
        &["<Type>EFI", "<Type>MSR", "<Type>Primary"],
        &["<InstallFrom>", "<InstallTo>"],
        &["<OOBE>", "<UserAccounts>"],
    ] {
        assert!(order.windows(2).all(|pair| at(pair[0]) < at(pair[1])), "{order:?}");
    }
    assert_eq!(xpath("//ImageInstall>OSImage>InstallTo>PartitionID"), "3");
    let path = xpath("//RunSynchronousCommand>Path");
    assert!(path.len() < 259, "the reference allows a path of 259 characters: {path}");
}
