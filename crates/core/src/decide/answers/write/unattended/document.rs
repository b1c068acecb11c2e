//! The XML document, being written.

use lastmile_formats::{cpu::Cpu, quote};
use quick_xml::{
    Writer,
    events::{BytesDecl, BytesText, Event},
};

use super::names;
use crate::decide::answers::Resolved;

/// The document, being written with two blanks a level.
pub(super) struct Document {
    writer: Writer<Vec<u8>>,
    architecture: &'static str,
}

impl Document {
    pub(super) fn new(cpu: Cpu) -> Self {
        let mut writer = Writer::new_with_indent(Vec::new(), b' ', 2);
        let _ = writer.write_event(Event::Decl(BytesDecl::new("1.0", Some("utf-8"), None)));
        let architecture = match cpu {
            Cpu::Arm64 => "arm64",
            Cpu::X86 => "x86",
            _ => "amd64",
        };
        Self { writer, architecture }
    }

    pub(super) fn finish(self) -> String {
        String::from_utf8_lossy(&self.writer.into_inner()).into_owned() + "\n"
    }

    pub(super) fn comment(&mut self, text: &str) {
        // Two hyphens would end a comment.
        let text = format!(" {} ", text.replace("--", "- -"));
        let _ = self.writer.write_event(Event::Comment(BytesText::from_escaped(text)));
    }

    pub(super) fn open(&mut self, name: &str, attributes: &[(&str, &str)]) {
        let start = quick_xml::events::BytesStart::new(name).with_attributes(attributes.iter().copied());
        let _ = self.writer.write_event(Event::Start(start));
    }

    pub(super) fn close(&mut self, name: &str) {
        let _ = self.writer.write_event(Event::End(quick_xml::events::BytesEnd::new(name)));
    }

    pub(super) fn leaf(&mut self, name: &str, text: &str) {
        let escaped = quote::xml(text);
        let _ = self.writer.create_element(name).write_text_content(BytesText::from_escaped(escaped));
    }

    pub(super) fn group(&mut self, name: &str, inner: impl FnOnce(&mut Self)) {
        self.open(name, &[]);
        inner(self);
        self.close(name);
    }

    /// Addresses as a numbered list.
    pub(super) fn addresses(&mut self, all: &[impl ToString]) {
        for (number, address) in (1..).zip(all) {
            self.open("IpAddress", &[("wcm:action", "add"), ("wcm:keyValue", &i32::to_string(&number))]);
            let _ = self.writer.write_event(Event::Text(BytesText::new(&address.to_string())));
            self.close("IpAddress");
        }
    }

    /// An item of a list: set-up adds it to what is there.
    pub(super) fn item(&mut self, name: &str, inner: impl FnOnce(&mut Self)) {
        self.open(name, &[("wcm:action", "add")]);
        inner(self);
        self.close(name);
    }

    pub(super) fn pass(&mut self, name: &str, fragment: &str, inner: impl FnOnce(&mut Self)) {
        self.open("settings", &[("pass", name)]);
        inner(self);
        if !fragment.is_empty() {
            let text = format!("\n{fragment}  ");
            let _ = self.writer.write_event(Event::Text(BytesText::from_escaped(text)));
        }
        self.close("settings");
    }

    pub(super) fn component(&mut self, name: &str, inner: impl FnOnce(&mut Self)) {
        let architecture = self.architecture;
        self.open(
            "component",
            &[
                ("name", name),
                ("processorArchitecture", architecture),
                ("publicKeyToken", "31bf3856ad364e35"),
                ("language", "neutral"),
                ("versionScope", "nonSxS"),
                ("xmlns:wcm", "http://schemas.microsoft.com/WMIConfig/2002/State"),
            ],
        );
        inner(self);
        self.close("component");
    }

    pub(super) fn languages(&mut self, settings: &Resolved, with_setup: bool) {
        let language = names::language(&settings.locale).unwrap_or_default();
        if with_setup {
            self.group("SetupUILanguage", |d| d.leaf("UILanguage", &language));
        }
        self.leaf("InputLocale", names::keyboard(&settings.keyboard.to_string()).unwrap_or_default());
        self.leaf("SystemLocale", &language);
        self.leaf("UILanguage", &language);
        self.leaf("UserLocale", &language);
    }
}
