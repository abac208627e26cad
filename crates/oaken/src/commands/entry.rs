//! The keys of an entry as options: `add` and `change` share them.

use census::edit::{Form, Given};

/// One option for each key of an entry but its type.
#[derive(clap::Args)]
pub struct Keys {
    /// global, scene, type or instance. A new entry without it has what its owner's kind has (an actor's: instance).
    #[arg(long)]
    scope: Option<String>,
    /// What it starts as.
    #[arg(long, allow_hyphen_values = true)]
    default: Option<String>,
    /// The least it may be: a number, or a variable's identity.
    #[arg(long, allow_hyphen_values = true, value_name = "NUMBER|ID")]
    min: Option<String>,
    /// The most it may be.
    #[arg(long, allow_hyphen_values = true, value_name = "NUMBER|ID")]
    max: Option<String>,
    /// error, clamp or wrap.
    #[arg(long)]
    overflow: Option<String>,
    /// The values of an enum.
    #[arg(long, value_delimiter = ',', value_name = "A,B,…")]
    values: Vec<String>,
    /// The actor that a ref refers to.
    #[arg(long, value_name = "ACTOR")]
    of: Option<String>,
    /// Shown beside the value.
    #[arg(long)]
    unit: Option<String>,
    /// reads, writes or both.
    #[arg(long)]
    engine: Option<String>,
    /// A tuning value: no script may write it.
    #[arg(long, value_name = "TRUE|FALSE", num_args = 0..=1, default_missing_value = "true")]
    constant: Option<bool>,
    /// run, session or saved.
    #[arg(long)]
    lifetime: Option<String>,
    /// The owners whose scripts may write it.
    #[arg(long, value_delimiter = ',', value_name = "A,B,…")]
    writers: Vec<String>,
    /// The default is a stand-in that a player should never read.
    #[arg(long, value_name = "TRUE|FALSE", num_args = 0..=1, default_missing_value = "true")]
    placeholder: Option<bool>,
    /// The number by which an engine addresses it.
    #[arg(long)]
    slot: Option<String>,
    /// Who answers for it.
    #[arg(long)]
    steward: Option<String>,
    /// What it is for.
    #[arg(long)]
    about: Option<String>,
    /// Tags.
    #[arg(long, value_delimiter = ',', value_name = "A,B,…")]
    tags: Vec<String>,
    /// What it was called before.
    #[arg(long, value_delimiter = ',', value_name = "A,B,…")]
    formerly: Vec<String>,
}

impl Keys {
    /// What was given, in the order in which an entry lists its keys.
    #[must_use]
    pub fn given(&self, ty: Option<&str>, usual_scope: Option<&str>) -> Vec<Given> {
        let mut given = Vec::new();
        let mut add = |key, values: Vec<String>, form| {
            if !values.is_empty() {
                given.push(Given { key, values, form });
            }
        };
        let one = |value: &Option<String>| value.iter().cloned().collect::<Vec<_>>();
        let flag = |set: Option<bool>| set.iter().map(ToString::to_string).collect::<Vec<_>>();
        let scope = self.scope.as_deref().or(usual_scope);
        add("type", ty.iter().map(ToString::to_string).collect(), Form::Text);
        add("scope", scope.iter().map(ToString::to_string).collect(), Form::Text);
        add("of", one(&self.of), Form::Text);
        add("values", self.values.clone(), Form::TextList);
        add("default", one(&self.default), Form::ByType);
        add("min", one(&self.min), Form::Bound);
        add("max", one(&self.max), Form::Bound);
        add("overflow", one(&self.overflow), Form::Text);
        add("unit", one(&self.unit), Form::Text);
        add("engine", one(&self.engine), Form::Text);
        add("constant", flag(self.constant), Form::Plain);
        add("lifetime", one(&self.lifetime), Form::Text);
        add("writers", self.writers.clone(), Form::TextList);
        add("placeholder", flag(self.placeholder), Form::Plain);
        add("slot", one(&self.slot), Form::Plain);
        add("steward", one(&self.steward), Form::Text);
        add("about", one(&self.about), Form::Text);
        add("tags", self.tags.clone(), Form::TextList);
        add("formerly", self.formerly.clone(), Form::TextList);
        given
    }
}
