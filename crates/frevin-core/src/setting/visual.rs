//! The system parameters of looks, and of the pointer.

use std::fmt;
use std::str::FromStr;

use super::error::AddressError;

/// A parameter of looks or of the pointer that Windows keeps for the signed-in user.
///
/// Each is read and written through `SystemParametersInfo`; the names are ours, the action is
/// in the table of [`VisualParameter::windows_action`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum VisualParameter {
    /// Animations inside windows (controls and elements).
    ClientAreaAnimation,
    /// Combo boxes slide open.
    ComboBoxAnimation,
    /// Shadows under the mouse pointer.
    CursorShadow,
    /// The contents of a window are drawn while it is dragged.
    DragFullWindows,
    /// Shadows under windows.
    DropShadow,
    /// Smooth edges of screen fonts.
    FontSmoothing,
    /// List boxes scroll smoothly.
    ListBoxSmoothScrolling,
    /// Menus fade or slide into view.
    MenuAnimation,
    /// How long a submenu waits before it opens, in milliseconds.
    MenuDelay,
    /// From how many counts of the mouse on its way counts twice and four times, and whether it does.
    PointerAcceleration,
    /// How far the pointer moves for the same way of the mouse: 1 to 20.
    PointerSpeed,
    /// A chosen menu item fades out.
    SelectionFade,
    /// Tool tips fade or slide into view.
    ToolTipAnimation,
    /// The main switch over all of the above animations and fades.
    UiEffects,
}

/// What a system parameter holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum VisualKind {
    /// On or off.
    Flag,
    /// A time in milliseconds.
    Milliseconds,
    /// A number.
    Number,
    /// Three numbers, written as a text with spaces between them.
    ThreeNumbers,
}

impl VisualParameter {
    /// Every parameter, in the order of their names.
    pub const ALL: [Self; 14] = [
        Self::ClientAreaAnimation,
        Self::ComboBoxAnimation,
        Self::CursorShadow,
        Self::DragFullWindows,
        Self::DropShadow,
        Self::FontSmoothing,
        Self::ListBoxSmoothScrolling,
        Self::MenuAnimation,
        Self::MenuDelay,
        Self::PointerAcceleration,
        Self::PointerSpeed,
        Self::SelectionFade,
        Self::ToolTipAnimation,
        Self::UiEffects,
    ];

    /// The name used in addresses.
    pub fn name(self) -> &'static str {
        match self {
            Self::ClientAreaAnimation => "client-area-animation",
            Self::ComboBoxAnimation => "combo-box-animation",
            Self::CursorShadow => "cursor-shadow",
            Self::DragFullWindows => "drag-full-windows",
            Self::DropShadow => "drop-shadow",
            Self::FontSmoothing => "font-smoothing",
            Self::ListBoxSmoothScrolling => "list-box-smooth-scrolling",
            Self::MenuAnimation => "menu-animation",
            Self::MenuDelay => "menu-delay",
            Self::PointerAcceleration => "pointer-acceleration",
            Self::PointerSpeed => "pointer-speed",
            Self::SelectionFade => "selection-fade",
            Self::ToolTipAnimation => "tool-tip-animation",
            Self::UiEffects => "ui-effects",
        }
    }

    /// The `SystemParametersInfo` action that writes it, less its `SPI_SET` prefix
    /// (documentation of `SystemParametersInfoW`).
    pub fn windows_action(self) -> &'static str {
        match self {
            Self::ClientAreaAnimation => "CLIENTAREAANIMATION",
            Self::ComboBoxAnimation => "COMBOBOXANIMATION",
            Self::CursorShadow => "CURSORSHADOW",
            Self::DragFullWindows => "DRAGFULLWINDOWS",
            Self::DropShadow => "DROPSHADOW",
            Self::FontSmoothing => "FONTSMOOTHING",
            Self::ListBoxSmoothScrolling => "LISTBOXSMOOTHSCROLLING",
            Self::MenuAnimation => "MENUANIMATION",
            Self::MenuDelay => "MENUSHOWDELAY",
            Self::PointerAcceleration => "MOUSE",
            Self::PointerSpeed => "MOUSESPEED",
            Self::SelectionFade => "SELECTIONFADE",
            Self::ToolTipAnimation => "TOOLTIPANIMATION",
            Self::UiEffects => "UIEFFECTS",
        }
    }

    /// What it holds.
    pub fn kind(self) -> VisualKind {
        match self {
            Self::MenuDelay => VisualKind::Milliseconds,
            Self::PointerAcceleration => VisualKind::ThreeNumbers,
            Self::PointerSpeed => VisualKind::Number,
            Self::ClientAreaAnimation
            | Self::ComboBoxAnimation
            | Self::CursorShadow
            | Self::DragFullWindows
            | Self::DropShadow
            | Self::FontSmoothing
            | Self::ListBoxSmoothScrolling
            | Self::MenuAnimation
            | Self::SelectionFade
            | Self::ToolTipAnimation
            | Self::UiEffects => VisualKind::Flag,
        }
    }
}

/// The three numbers of a text like `6 10 1`; nothing where it is none, or spelled in another way.
pub fn three_numbers(text: &str) -> Option<[u32; 3]> {
    let numbers: Vec<u32> = text.split(' ').map(|n| n.parse().ok()).collect::<Option<_>>()?;
    let three: [u32; 3] = numbers.try_into().ok()?;
    (three.map(|n| n.to_string()).join(" ") == text).then_some(three)
}

impl fmt::Display for VisualParameter {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

impl FromStr for VisualParameter {
    type Err = AddressError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        Self::ALL
            .into_iter()
            .find(|parameter| parameter.name() == text)
            .ok_or_else(|| AddressError::UnknownVisual(text.to_owned()))
    }
}
