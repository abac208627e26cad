//! `oaken add ID …`

use super::Outcome;
use crate::{Failure, print, write};
use census::edit::{self, Form, Given};
use census::project::{self, load};
use std::path::Path;
use std::process::ExitCode;

/// Options of `oaken add`: one for each key of an entry.
#[derive(clap::Args)]
pub struct Options {
    /// The new variable, `OWNER.NAME`.
    id: String,
    /// bool, int, number, text, enum, ref, vec2 or vec3.
    #[arg(long = "type", value_name = "TYPE")]
    ty: String,
    /// global, scene, type or instance; without it, what the owner's kind has (an actor's: instance).
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
    #[arg(long)]
    constant: bool,
    /// run, session or saved.
    #[arg(long)]
    lifetime: Option<String>,
    /// The owners whose scripts may write it.
    #[arg(long, value_delimiter = ',', value_name = "A,B,…")]
    writers: Vec<String>,
    /// The default is a stand-in that a player should never read.
    #[arg(long)]
    placeholder: bool,
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
    /// Show the new entry, and write nothing.
    #[arg(long)]
    dry_run: bool,
}

impl Options {
    fn given(&self, scope: &str) -> Vec<Given> {
        let mut given = Vec::new();
        let mut add = |key, values: Vec<String>, form| {
            if !values.is_empty() {
                given.push(Given { key, values, form });
            }
        };
        let one = |value: &Option<String>| value.iter().cloned().collect::<Vec<_>>();
        let flag = |set: bool| if set { vec!["true".to_owned()] } else { Vec::new() };
        add("type", vec![self.ty.clone()], Form::Text);
        add("scope", vec![scope.to_owned()], Form::Text);
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

/// Adds an entry.
pub fn run(folder: Option<&Path>, options: &Options) -> Outcome {
    let root = super::root(folder)?;
    let project = project::build(load::load(&root)?);
    let scope = options.scope.clone().unwrap_or_else(|| edit::usual_scope(&project, &options.id).to_owned());
    let new = edit::add(&project, &options.id, &options.given(&scope))?;
    let mut out = print::Out::new();
    if !options.dry_run {
        write::whole(&root.join(&new.path), &new.text)?;
    }
    let entry: Vec<&str> = new.text.lines().skip(new.line - 1).take_while(|line| !line.trim().is_empty()).collect();
    let verb = if options.dry_run { "would be" } else { "is" };
    out.line(&format!(
        "`{}` {verb} in {}, line {}:\n",
        print::plain_line(&options.id),
        print::plain_line(&new.path),
        new.line
    ))?;
    for line in entry {
        out.line(&format!("    {}", print::plain_line(line)))?;
    }
    out.finish()?;
    Ok::<_, Failure>(ExitCode::SUCCESS)
}
