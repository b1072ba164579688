//! What is made beside settings: for each type of settings a *patch*, which has the same fields, all of them optional,
//! and its entries in the *catalogue*.
//!
//! `#[derive(Settings)]` on a struct `Colour` makes `ColourPatch` and implements `Settings` and `Patch` for the two, by
//! which one is changed by the other and patches are laid over one another (`core::patch`). On an enum whose forms
//! are told by a tag (`#[serde(tag = "rule")]`) the patch has the tag and the fields of all forms.
//!
//! Fields are settings of their own, unless they say otherwise:
//! - `#[setting(nested)]`: the field is settings itself, or may be (`Option`), and is changed field by field;
//! - `#[setting(skip)]`: no patch changes the field, and the catalogue has none of it;
//! - `#[setting(name = "…", term = "…", unit = "…", least = …, most = …, offers = …, kind = …)]`: what it is called, also by
//!   the trade; what it counts, its ends, and values that are often taken; another kind of values than its type has.
//!
//! `#[derive(Choices)]` on an enum without fields makes it the values of a setting, each with its `#[setting(name = "…")]`.

use proc_macro2::TokenStream;
use quote::{format_ident, quote};
use syn::{
    Attribute, Data, DeriveInput, Expr, Field, Fields, GenericArgument, Ident, Meta, MetaNameValue, PathArguments, Type,
    parse_macro_input,
};

/// Makes a patch beside settings.
#[proc_macro_derive(Settings, attributes(setting))]
pub fn settings(input: proc_macro::TokenStream) -> proc_macro::TokenStream {
    let input = parse_macro_input!(input as DeriveInput);
    let made = match &input.data {
        Data::Struct(data) => of_struct(&input, &data.fields),
        Data::Enum(data) => of_rule(&input, data),
        Data::Union(data) => Err(syn::Error::new(data.union_token.span, "settings are structs, or enums with a tag")),
    };
    made.unwrap_or_else(syn::Error::into_compile_error).into()
}

/// Makes the words of an enum the values of a setting.
#[proc_macro_derive(Choices, attributes(setting))]
pub fn choices(input: proc_macro::TokenStream) -> proc_macro::TokenStream {
    let input = parse_macro_input!(input as DeriveInput);
    of_choices(&input).unwrap_or_else(syn::Error::into_compile_error).into()
}

/// What a field is to its patch.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Role {
    Own,
    Nested,
    Skipped,
}

/// What is said of a field, a form or a word.
struct Said {
    role: Role,
    name: Option<syn::LitStr>,
    term: Option<syn::LitStr>,
    unit: Option<syn::LitStr>,
    least: Option<Expr>,
    most: Option<Expr>,
    offers: Option<Expr>,
    kind: Option<Expr>,
}

fn said(attributes: &[Attribute]) -> syn::Result<Said> {
    let mut said =
        Said { role: Role::Own, name: None, term: None, unit: None, least: None, most: None, offers: None, kind: None };
    for attribute in attributes.iter().filter(|attribute| attribute.path().is_ident("setting")) {
        attribute.parse_nested_meta(|meta| {
            let word = meta.path.get_ident().map(Ident::to_string).unwrap_or_default();
            match word.as_str() {
                "nested" => said.role = Role::Nested,
                "skip" => said.role = Role::Skipped,
                "name" => said.name = Some(meta.value()?.parse()?),
                "term" => said.term = Some(meta.value()?.parse()?),
                "unit" => said.unit = Some(meta.value()?.parse()?),
                "least" => said.least = Some(meta.value()?.parse()?),
                "most" => said.most = Some(meta.value()?.parse()?),
                "offers" => said.offers = Some(meta.value()?.parse()?),
                "kind" => said.kind = Some(meta.value()?.parse()?),
                _ => return Err(meta.error("known are nested, skip, name, term, unit, least, most, offers and kind")),
            }
            Ok(())
        })?;
    }
    Ok(said)
}

/// The comment above something as one line.
fn says(attributes: &[Attribute]) -> String {
    let line = |attribute: &Attribute| match &attribute.meta {
        Meta::NameValue(MetaNameValue { value: Expr::Lit(syn::ExprLit { lit: syn::Lit::Str(text), .. }), .. }) => {
            Some(text.value().trim().to_owned())
        }
        _ => None,
    };
    comments(attributes).filter_map(line).collect::<Vec<_>>().join(" ")
}

/// `DropRepeat` or `key_interval` as “Drop repeat” and “Key interval”, for what has no other name.
fn plain_words(name: &Ident) -> String {
    let words = snake(name).replace('_', " ");
    let mut letters = words.chars();
    letters.next().map_or_else(String::new, |first| first.to_uppercase().chain(letters).collect())
}

/// The name of a field and what its comment says.
fn named(ident: Option<&Ident>, attributes: &[Attribute], said: &Said) -> TokenStream {
    let name = said.name.as_ref().map_or_else(|| ident.map(plain_words).unwrap_or_default(), syn::LitStr::value);
    let term = said.term.as_ref().map_or_else(|| quote!(None), |term| quote!(Some(#term)));
    let says = says(attributes);
    quote!(crate::catalogue::Named { name: #name, term: #term, says: #says })
}

/// Adds a field to the catalogue, at a place named `place`.
fn described(field: &Field, said: &Said) -> TokenStream {
    let (own, of) = (&field.ident, &field.ty);
    let name = own.as_ref().map(Ident::to_string).unwrap_or_default();
    let named = named(own.as_ref(), &field.attrs, said);
    if said.role == Role::Nested {
        let of = optional(of).unwrap_or(of);
        return quote!(<#of as crate::catalogue::Described>::describe(&crate::catalogue::place_of(place, #name), #named, settings););
    }
    let end = |end: &Option<Expr>| end.as_ref().map_or_else(|| quote!(None), |end| quote!(Some((#end).into())));
    let (least, most) = (end(&said.least), end(&said.most));
    let unit = said.unit.as_ref().map_or_else(String::new, syn::LitStr::value);
    let offers = said.offers.as_ref().map_or_else(|| quote!(Vec::new()), |offers| quote!(#offers));
    let kind = said.kind.as_ref().map(|kind| quote!(setting.kind = #kind;));
    let is_limited = said.least.is_some() || said.most.is_some() || said.offers.is_some() || !unit.is_empty();
    let limits = is_limited.then(|| quote!(setting.kind = setting.kind.within(#least, #most, #unit, #offers);));
    quote! {
        #[allow(unused_mut)]
        let mut setting = crate::catalogue::Setting::of::<#of>(crate::catalogue::place_of(place, #name), #named);
        #kind
        #limits
        settings.push(setting);
    }
}

/// What an `Option` holds.
fn optional(of: &Type) -> Option<&Type> {
    let Type::Path(path) = of else { return None };
    let last = path.path.segments.last().filter(|last| last.ident == "Option")?;
    let PathArguments::AngleBracketed(arguments) = &last.arguments else { return None };
    arguments.args.iter().find_map(|argument| if let GenericArgument::Type(inner) = argument { Some(inner) } else { None })
}

/// The type of the patch of settings of this type.
fn patch_of(of: &Type) -> syn::Result<Type> {
    let Type::Path(path) = of else { return Err(syn::Error::new_spanned(of, "nested settings are named by a path")) };
    let mut path = path.clone();
    if let Some(last) = path.path.segments.last_mut() {
        last.ident = format_ident!("{}Patch", last.ident);
    }
    Ok(Type::Path(path))
}

/// The comments above something.
fn comments(attributes: &[Attribute]) -> impl Iterator<Item = &Attribute> {
    attributes.iter().filter(|attribute| attribute.path().is_ident("doc"))
}

/// The field of a patch for one of settings.
fn patch_field(field: &Field, role: Role) -> syn::Result<TokenStream> {
    let (name, of) = (&field.ident, &field.ty);
    let comments = comments(&field.attrs);
    let is_optional = optional(of).is_some();
    let (of, shown) = match (role, optional(of)) {
        (Role::Nested, Some(inner)) => {
            let patch = patch_of(inner)?;
            (quote!(Option<#patch>), quote!(Option<#patch>))
        }
        (Role::Nested, None) => {
            let patch = patch_of(of)?;
            (quote!(#patch), quote!(Option<#patch>))
        }
        (Role::Own | Role::Skipped, Some(inner)) => (quote!(#of), quote!(Option<#inner>)),
        (Role::Own | Role::Skipped, None) => (quote!(#of), quote!(Option<#of>)),
    };
    // What may be nothing can be set to nothing.
    let present = is_optional.then(|| quote!(#[serde(deserialize_with = "crate::patch::present")]));
    Ok(quote! {
        #(#comments)*
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #present
        #[schema(value_type = #shown)]
        pub #name: Option<#of>
    })
}

fn of_struct(input: &DeriveInput, fields: &Fields) -> syn::Result<TokenStream> {
    let (name, patch) = (&input.ident, format_ident!("{}Patch", input.ident));
    let (mut declared, mut joined, mut applied, mut entries) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    for field in fields {
        let said = said(&field.attrs)?;
        let (role, own) = (said.role, &field.ident);
        let place = own.as_ref().map(Ident::to_string);
        applied.push(match (role, optional(&field.ty)) {
            (Role::Skipped, _) => quote!(#own: self.#own.clone()),
            (Role::Own, _) => quote!(#own: patch.#own.clone().unwrap_or_else(|| self.#own.clone())),
            (Role::Nested, None) => {
                quote!(#own: crate::patch::patched(&self.#own, patch.#own.as_ref(), at.field(#place), left_out)?)
            }
            (Role::Nested, Some(_)) => {
                quote!(#own: crate::patch::patched_optional(self.#own.as_ref(), patch.#own.as_ref(), at.field(#place), left_out)?)
            }
        });
        if role == Role::Skipped {
            continue;
        }
        entries.push(described(field, &said));
        declared.push(patch_field(field, role)?);
        joined.push(match (role, optional(&field.ty)) {
            (Role::Nested, None) => quote!(#own: crate::patch::joined(self.#own, above.#own)),
            (Role::Nested, Some(_)) => quote!(#own: crate::patch::joined_optional(self.#own, above.#own)),
            (Role::Own | Role::Skipped, _) => quote!(#own: above.#own.or(self.#own)),
        });
    }
    let head = patch_head(&format!("A patch on [`{name}`]: what it sets stands above what is there."));
    let settings = settings_of(name, &patch, &quote!(Ok(Self { #(#applied,)* })));
    Ok(quote! {
        #head
        pub struct #patch {
            #(#declared,)*
        }

        impl crate::patch::Patch for #patch {
            fn under(self, above: Self) -> Self {
                Self { #(#joined,)* }
            }
        }

        #settings

        impl crate::catalogue::Described for #name {
            fn describe(place: &str, _: crate::catalogue::Named, settings: &mut Vec<crate::catalogue::Setting>) {
                #(#entries)*
            }
        }
    })
}

/// How a patch changes settings.
fn settings_of(name: &Ident, patch: &Ident, patched: &TokenStream) -> TokenStream {
    quote! {
        impl crate::patch::Settings for #name {
            type Patch = #patch;

            fn patched(
                &self,
                patch: &#patch,
                at: crate::patch::Place<'_>,
                left_out: &mut Vec<crate::patch::LeftOut>,
            ) -> Result<Self, crate::problem::Fault> {
                #patched
            }
        }
    }
}

fn patch_head(comment: &str) -> TokenStream {
    quote! {
        #[doc = #comment]
        #[derive(Debug, Clone, Default, PartialEq, Eq, serde::Serialize, serde::Deserialize, utoipa::ToSchema)]
        #[serde(deny_unknown_fields)]
    }
}

/// The tag by which the forms of an enum are told apart.
fn tag(attributes: &[Attribute]) -> syn::Result<Option<String>> {
    let mut tag = None;
    for attribute in attributes.iter().filter(|attribute| attribute.path().is_ident("serde")) {
        attribute.parse_nested_meta(|meta| {
            if meta.path.is_ident("tag") {
                tag = Some(meta.value()?.parse::<syn::LitStr>()?.value());
            } else if meta.input.peek(syn::Token![=]) {
                meta.value()?.parse::<syn::Expr>()?;
            }
            Ok(())
        })?;
    }
    Ok(tag)
}

/// `ConstantQuality` as `constant_quality`.
fn snake(name: &Ident) -> String {
    let mut snake = String::new();
    for letter in name.to_string().chars() {
        if letter.is_ascii_uppercase() && !snake.is_empty() {
            snake.push('_');
        }
        snake.push(letter.to_ascii_lowercase());
    }
    snake
}

fn of_rule(input: &DeriveInput, data: &syn::DataEnum) -> syn::Result<TokenStream> {
    let (name, patch, form) = (&input.ident, format_ident!("{}Patch", input.ident), format_ident!("{}Form", input.ident));
    let Some(tag) = tag(&input.attrs)? else {
        return Err(syn::Error::new_spanned(name, "an enum of settings needs a tag for its forms"));
    };
    let tag_field = format_ident!("{tag}");
    let mut forms = Vec::new();
    let mut has = Vec::new();
    let mut described_forms = Vec::new();
    let mut fields: Vec<&Field> = Vec::new();
    for variant in &data.variants {
        let (own, comments, word) = (&variant.ident, comments(&variant.attrs), snake(&variant.ident));
        forms.push(quote!(#(#comments)* #own));
        let names: Vec<String> = variant.fields.iter().filter_map(|field| field.ident.as_ref().map(Ident::to_string)).collect();
        has.push(quote!(#word => &[#(#names),*]));
        let said_of_form = said(&variant.attrs)?;
        let form_words = said_of_form.name.as_ref().map_or_else(|| plain_words(own), syn::LitStr::value);
        let form_says = says(&variant.attrs);
        let own_settings =
            variant.fields.iter().map(|field| Ok(described(field, &said(&field.attrs)?))).collect::<syn::Result<Vec<_>>>()?;
        described_forms.push(quote! {{
            #[allow(unused_mut)]
            let mut own: Vec<crate::catalogue::Setting> = Vec::new();
            {
                // What a form has is named by its field alone.
                let (settings, place) = (&mut own, "");
                let _ = (&settings, place);
                #(#own_settings)*
            }
            crate::catalogue::Form { value: #word.to_owned(), words: #form_words.to_owned(), says: #form_says.to_owned(), settings: own }
        }});
        for field in &variant.fields {
            if !fields.iter().any(|known| known.ident == field.ident) {
                fields.push(field);
            }
        }
    }
    let declared = fields.iter().map(|field| patch_field(field, Role::Own)).collect::<syn::Result<Vec<_>>>()?;
    let joined = fields.iter().map(|field| &field.ident).map(|own| quote!(#own: above.#own.or(self.#own)));
    let head = patch_head(&format!("A patch on [`{name}`]: another form, or other fields of the one that is there."));
    let patched = quote! {
        let fields = |form: &str| -> &'static [&'static str] {
            match form {
                #(#has,)*
                _ => &[],
            }
        };
        crate::patch::patched_rule(self, patch, #tag, fields, at, left_out)
    };
    let settings = settings_of(name, &patch, &patched);
    let of_form = format!("The forms of [`{name}`].");
    Ok(quote! {
        #[doc = #of_form]
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, serde::Serialize, serde::Deserialize, utoipa::ToSchema)]
        #[serde(rename_all = "snake_case")]
        pub enum #form {
            #(#forms,)*
        }

        #head
        pub struct #patch {
            /// Which form it has.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub #tag_field: Option<#form>,
            #(#declared,)*
        }

        impl crate::patch::Patch for #patch {
            fn under(self, above: Self) -> Self {
                // Another form has other fields.
                if above.#tag_field.is_some() && self.#tag_field.is_some() && above.#tag_field != self.#tag_field {
                    return above;
                }
                Self { #tag_field: above.#tag_field.or(self.#tag_field), #(#joined,)* }
            }
        }

        #settings

        impl crate::catalogue::Described for #name {
            fn describe(place: &str, named: crate::catalogue::Named, settings: &mut Vec<crate::catalogue::Setting>) {
                let forms = vec![#(#described_forms),*];
                settings.push(crate::catalogue::Setting {
                    place: place.to_owned(),
                    name: named.name.to_owned(),
                    term: named.term,
                    says: named.says.to_owned(),
                    is_optional: false,
                    kind: crate::catalogue::Kind::Rule { tag: #tag, forms },
                });
            }
        }
    })
}

fn of_choices(input: &DeriveInput) -> syn::Result<TokenStream> {
    let name = &input.ident;
    let Data::Enum(data) = &input.data else {
        return Err(syn::Error::new_spanned(name, "choices are the words of an enum"));
    };
    let mut choices = Vec::new();
    for variant in &data.variants {
        if !matches!(variant.fields, Fields::Unit) {
            return Err(syn::Error::new_spanned(variant, "a choice has no fields"));
        }
        let (own, said, says) = (&variant.ident, said(&variant.attrs)?, says(&variant.attrs));
        let words = said.name.as_ref().map_or_else(|| plain_words(own), syn::LitStr::value);
        choices.push(quote!(crate::catalogue::Choice::new(#name::#own, #words, #says)));
    }
    Ok(quote! {
        impl crate::catalogue::Valued for #name {
            fn kind() -> crate::catalogue::Kind {
                crate::catalogue::Kind::Choice { of: vec![#(#choices),*], or_fraction: None }
            }
        }
    })
}
