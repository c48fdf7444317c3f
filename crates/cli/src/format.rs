use clap::ValueEnum;

/// How data is printed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// For people
    #[default]
    Table,
    /// For programs
    Json,
    /// For test reports: `bentlane check` alone has it
    Junit,
    /// For the network panels of browsers: `bentlane traffic` alone has it
    Har,
}
