//! Arguments in one line, as Windows hands them to programs.

/// One line that programs take apart into these arguments again ("Parsing C command-line arguments" in the Windows
/// documentation): backslashes count only before a quotation mark.
pub fn command_line(arguments: &[String]) -> String {
    let quoted = arguments.iter().map(|argument| {
        let mut text = String::from("\"");
        let mut backslashes = 0;
        for character in argument.chars() {
            match character {
                '\\' => backslashes += 1,
                '"' => {
                    text.extend(std::iter::repeat_n('\\', backslashes + 1));
                    backslashes = 0;
                }
                _ => backslashes = 0,
            }
            text.push(character);
        }
        text.extend(std::iter::repeat_n('\\', backslashes));
        text.push('"');
        text
    });
    quoted.collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// The documented rules, the other way round.
    fn taken_apart(line: &str) -> Vec<String> {
        let (mut arguments, mut argument) = (Vec::new(), String::new());
        let (mut backslashes, mut is_quoted, mut is_there) = (0, false, false);
        for character in line.chars() {
            if character == '\\' {
                backslashes += 1;
                is_there = true;
                continue;
            }
            let before_mark = character == '"';
            let kept = if before_mark { backslashes / 2 } else { backslashes };
            argument.extend(std::iter::repeat_n('\\', kept));
            match character {
                '"' if backslashes % 2 == 1 => argument.push('"'),
                '"' => {
                    is_quoted = !is_quoted;
                    is_there = true;
                }
                ' ' if !is_quoted => {
                    if std::mem::take(&mut is_there) {
                        arguments.push(std::mem::take(&mut argument));
                    }
                }
                other => {
                    argument.push(other);
                    is_there = true;
                }
            }
            backslashes = 0;
        }
        argument.extend(std::iter::repeat_n('\\', backslashes));
        if is_there {
            arguments.push(argument);
        }
        arguments
    }

    #[test]
    fn a_folder_that_ends_in_a_backslash_stays_one_argument() {
        let arguments = [r"C:\My games\".to_owned(), "--yes".to_owned()];
        assert_eq!(command_line(&arguments), r#""C:\My games\\" "--yes""#);
        assert_eq!(taken_apart(&command_line(&arguments)), arguments);
    }

    proptest! {
        #[test]
        fn arguments_come_back_as_they_were(
            arguments in prop::collection::vec(r#"[a-z \\"]{0,8}"#, 0..5),
        ) {
            prop_assert_eq!(taken_apart(&command_line(&arguments)), arguments);
        }
    }
}
