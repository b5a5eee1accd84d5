//! Encoder configurations are sent back as the device has sent them, with changed values.

use quick_xml::escape::escape;

use crate::xml::Element;

/// Maximum number of configurations.
pub(crate) const MAX_CONFIGURATIONS: usize = 512;
/// Maximum number of options of a configuration.
pub(crate) const MAX_OPTIONS: usize = 64;
/// Namespace of the elements of a configuration.
const SCHEMA: &str = "http://www.onvif.org/ver10/schema";
/// Attributes of a configuration that are sent back.
const ATTRIBUTES: [&str; 6] =
    ["token", "GovLength", "AnchorFrameDistance", "Profile", "GuaranteedFrameRate", "Signed"];

/// Rounds a number; `None` for one that is negative or too large.
pub(crate) fn whole(number: f64) -> Option<u32> {
    format!("{number:.0}").parse().ok()
}

/// Sets the text of the element at a path of names. Missing elements are added before those that follow in the schema.
pub(crate) fn set_text(element: &mut Element, order: &[&str], path: &[&str], text: &str) {
    let Some((name, rest)) = path.split_first() else {
        text.clone_into(&mut element.text);
        return;
    };
    let at = element.children.iter().position(|child| child.name == *name).unwrap_or_else(|| {
        let place = |name: &str| order.iter().position(|known| *known == name).unwrap_or(order.len());
        let later = |child: &Element| place(&child.name) > place(name);
        let at = element.children.iter().position(later).unwrap_or(element.children.len());
        element.children.insert(at, Element { name: (*name).to_owned(), ..Element::default() });
        at
    });
    if let Some(child) = element.children.get_mut(at) {
        set_text(child, order, rest, text);
    }
}

/// Writes a configuration as a device has sent it. Its elements are in the namespace of the schema.
pub(crate) fn configuration(element: &Element) -> String {
    let attributes: String = element
        .attributes
        .iter()
        .filter(|(name, _)| ATTRIBUTES.contains(&name.as_str()))
        .map(|(name, value)| format!(" {name}=\"{}\"", escape(value.as_str())))
        .collect();
    let children: String =
        element.children.iter().map(|child| written(child, &format!(" xmlns=\"{SCHEMA}\""))).collect();
    format!("<Configuration{attributes}>{children}</Configuration>")
}

fn written(element: &Element, namespace: &str) -> String {
    let Element { name, text, children, attributes } = element;
    let constant = attributes.iter().find(|(name, _)| name == "ConstantBitRate");
    let constant = constant.map(|(_, value)| format!(" ConstantBitRate=\"{}\"", escape(value.as_str())));
    let content: String = children.iter().map(|child| written(child, "")).collect();
    let text = escape(text.as_str());
    format!("<{name}{namespace}{}>{text}{content}</{name}>", constant.unwrap_or_default())
}
