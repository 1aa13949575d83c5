//! A source file with its mutants in it: pure insertions around what stands there, so that they
//! nest. A mutant's own text has no other mutants in it, as only one is at work at a time.

use std::fmt::Write as _;

use anyhow::{Context, Result};
use proc_macro2::LineColumn;
use syn::spanned::Spanned;
use syn::visit::{self, Visit};

use crate::listed::{Genre, Mutant, Place};

/// A mutant's number and what it is; numbers count from 1, 0 is none.
pub type Numbered<'m> = (u32, &'m Mutant);

/// Text to put at a byte of the file. Of several at one byte those that end come before
/// those that begin; wider ones begin first and end last.
struct Insertion {
    at: usize,
    ends: bool,
    /// How many bytes what it belongs to has.
    width: usize,
    text: String,
    of: Vec<u32>,
}

/// A file with mutants.
pub struct BuiltIn {
    pub text: String,
    /// Whose text stands where, in bytes of `text`.
    pub owners: Vec<(std::ops::Range<usize>, Vec<u32>)>,
    /// The numbers that have found their place.
    pub numbers: Vec<u32>,
}

/// Builds mutants of one file into its text.
pub fn build(source: &str, mutants: &[Numbered<'_>]) -> Result<BuiltIn> {
    let file = syn::parse_file(source).context("it cannot be parsed")?;
    let lines = std::iter::once(0)
        .chain(source.match_indices('\n').map(|(at, _)| at + 1))
        .collect::<Vec<_>>();
    let mut finder = Finder { source, lines, mutants, insertions: Vec::new(), found: Vec::new() };
    finder.visit_file(&file);
    let Finder { mut insertions, found: numbers, .. } = finder;
    insertions.sort_by_key(|i| {
        let width = i.width as isize;
        (i.at, !i.ends, if i.ends { width } else { -width })
    });
    let (mut text, mut owners, mut from) = (String::new(), Vec::new(), 0);
    for insertion in insertions {
        text.push_str(&source[from..insertion.at]);
        from = insertion.at;
        let begin = text.len();
        text.push_str(&insertion.text);
        owners.push((begin..text.len(), insertion.of));
    }
    text.push_str(&source[from..]);
    Ok(BuiltIn { text, owners, numbers })
}

struct Finder<'f> {
    source: &'f str,
    /// Where each line begins.
    lines: Vec<usize>,
    mutants: &'f [Numbered<'f>],
    insertions: Vec<Insertion>,
    found: Vec<u32>,
}

fn place(at: LineColumn) -> Place {
    Place { line: at.line, column: at.column + 1 }
}

impl<'f> Finder<'f> {
    /// The byte of a place.
    fn byte(&self, Place { line, column }: Place) -> usize {
        let begin = self.lines[line - 1];
        let rest = &self.source[begin..];
        begin + rest.char_indices().nth(column - 1).map_or(rest.len(), |(at, _)| at)
    }

    fn bytes(&self, of: &impl Spanned) -> std::ops::Range<usize> {
        let span = of.span();
        self.byte(place(span.start()))..self.byte(place(span.end()))
    }

    /// Mutants of a kind that stand exactly at this part of the source.
    fn at(&mut self, genre: Genre, of: &impl Spanned) -> Vec<Numbered<'f>> {
        let (start, end) = (place(of.span().start()), place(of.span().end()));
        // A field's span may end with its comma.
        let ends = |m: &Mutant| m.span.end == end || genre == Genre::StructField;
        let here = |m: &Mutant| m.genre == genre && m.span.start == start && ends(m);
        let found: Vec<_> = self.mutants.iter().copied().filter(|(_, m)| here(m)).collect();
        self.found.extend(found.iter().map(|(number, _)| number));
        found
    }

    fn insert(
        &mut self,
        around: &std::ops::Range<usize>,
        of: &[u32],
        before: String,
        behind: &str,
    ) {
        let width = around.len();
        let mut put = |at, ends, text| {
            self.insertions.push(Insertion { at, ends, width, text, of: of.to_vec() });
        };
        put(around.start, false, before);
        put(around.end, true, behind.to_owned());
    }

    /// An expression that is something else for each of these numbers.
    fn instead(&mut self, around: std::ops::Range<usize>, others: &[(u32, String)]) {
        let Some((first, _)) = others.first() else { return };
        let mut before = format!("(match crate::mutants::now({first}) {{ ");
        for (number, text) in others {
            let _ = write!(before, "{number} => ({text}\n), ");
        }
        before.push_str("_ => (");
        let numbers: Vec<u32> = others.iter().map(|(number, _)| *number).collect();
        self.insert(&around, &numbers, before, ") })");
    }

    fn function(&mut self, signature: &syn::Signature, block: &syn::Block) {
        // Of what is returned so there is one type, whatever the function is.
        let hidden = |returned: &syn::Type| matches!(returned, syn::Type::ImplTrait(_));
        if matches!(&signature.output, syn::ReturnType::Type(_, returned) if hidden(returned)) {
            return;
        }
        let around = self.bytes(block);
        let inside = |m: &Mutant| {
            let first = block.stmts.first().map(|first| place(first.span().start()));
            m.genre == Genre::FnValue
                && (Some(m.span.start) == first || m.span.start == place(block.span().start()))
        };
        let found: Vec<_> = self.mutants.iter().copied().filter(|(_, m)| inside(m)).collect();
        for (number, mutant) in found {
            self.found.push(number);
            let text = format!(
                " if crate::mutants::now({number}) == {number} {{ return {}; }} ",
                mutant.replacement
            );
            let at = around.start + 1;
            self.insertions.push(Insertion { at, ends: false, width: 0, text, of: vec![number] });
        }
    }
}

/// Whether a condition binds names, which no other expression may do.
fn binds(condition: &syn::Expr) -> bool {
    match condition {
        syn::Expr::Let(_) => true,
        syn::Expr::Binary(binary) => binds(&binary.left) || binds(&binary.right),
        _ => false,
    }
}

impl<'ast> Visit<'ast> for Finder<'_> {
    fn visit_item_fn(&mut self, item: &'ast syn::ItemFn) {
        self.function(&item.sig, &item.block);
        visit::visit_item_fn(self, item);
    }

    fn visit_impl_item_fn(&mut self, item: &'ast syn::ImplItemFn) {
        self.function(&item.sig, &item.block);
        visit::visit_impl_item_fn(self, item);
    }

    fn visit_expr_binary(&mut self, binary: &'ast syn::ExprBinary) {
        let whole = self.bytes(binary);
        let (left, right) = (self.bytes(&*binary.left), self.bytes(&*binary.right));
        if !binds(&binary.left) && !binds(&binary.right) {
            let found = self.at(Genre::BinaryOperator, &binary.op);
            let (left, right) = (&self.source[left], &self.source[right]);
            let others: Vec<_> = found
                .iter()
                .map(|(n, m)| (*n, format!("{left} {} {right}", m.replacement)))
                .collect();
            self.instead(whole, &others);
        }
        visit::visit_expr_binary(self, binary);
    }

    fn visit_expr_unary(&mut self, unary: &'ast syn::ExprUnary) {
        let whole = self.bytes(unary);
        let inner = self.bytes(&*unary.expr);
        let found = self.at(Genre::UnaryOperator, &unary.op);
        let inner = self.source[inner].to_owned();
        let others: Vec<_> = found.iter().map(|(n, _)| (*n, inner.clone())).collect();
        self.instead(whole, &others);
        visit::visit_expr_unary(self, unary);
    }

    fn visit_arm(&mut self, arm: &'ast syn::Arm) {
        let deleted = self.at(Genre::MatchArm, arm);
        match &arm.guard {
            None => {
                let at = self.bytes(&arm.pat).end;
                for (number, _) in deleted {
                    let text = format!(" if crate::mutants::now({number}) != {number}");
                    self.insertions.push(Insertion {
                        at,
                        ends: true,
                        width: 0,
                        text,
                        of: vec![number],
                    });
                }
            }
            Some((_, guard)) => {
                let around = self.bytes(&**guard);
                for (number, _) in deleted {
                    let text = format!("crate::mutants::now({number}) != {number} && ");
                    let (before, behind) =
                        if binds(guard) { (text, "") } else { (text + "(", ")") };
                    self.insert(&(around.start..around.end), &[number], before, behind);
                }
                if !binds(guard) {
                    let found = self.at(Genre::MatchArmGuard, &**guard);
                    let others: Vec<_> =
                        found.iter().map(|(n, m)| (*n, m.replacement.clone())).collect();
                    self.instead(around, &others);
                }
            }
        }
        visit::visit_arm(self, arm);
    }

    fn visit_expr_struct(&mut self, expression: &'ast syn::ExprStruct) {
        let whole = self.bytes(expression);
        let mut others = Vec::new();
        for field in &expression.fields {
            for (number, _) in self.at(Genre::StructField, field) {
                let gone = self.bytes(field);
                let behind = self.source[gone.end..whole.end].trim_start();
                let behind = behind.strip_prefix(',').unwrap_or(behind);
                others.push((number, format!("{}{behind}", &self.source[whole.start..gone.start])));
            }
        }
        self.instead(whole, &others);
        visit::visit_expr_struct(self, expression);
    }
}
