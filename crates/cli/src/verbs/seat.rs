//! `pennine seat`.

use super::yard;
use crate::error::Error;
use crate::view;
use crate::yard_file::kind::ThingKind;
use clap::Subcommand;
use pennine_client::Client;
use pennine_wire::{NewSeat, Seat, SeatChange, TakeBack};

#[derive(Subcommand)]
pub enum Verb {
    /// List the seats and their holders.
    List,
    /// Add a kind of seat.
    Add {
        /// Its name.
        name: String,
        /// How many there are.
        #[arg(long)]
        count: u32,
        /// What they are.
        #[arg(long, default_value = "", hide_default_value = true)]
        description: String,
    },
    /// Change the count. If it is lowered below use, seats drain: no job is ended.
    Set {
        /// Its name.
        name: String,
        /// The new count.
        #[arg(long)]
        count: Option<u32>,
        /// What they are.
        #[arg(long)]
        description: Option<String>,
    },
    /// Take the seats of a stuck job back; the job keeps its slot and continues.
    TakeBack {
        /// The seat's name.
        name: String,
        /// The job that holds it.
        job: String,
        /// Reason, for the record.
        #[arg(long, value_name = "TEXT")]
        why: String,
    },
}

/// `pennine seat`.
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<(), Error> {
    let seat = match verb {
        Verb::List => {
            let seats = client.seats().await?;
            if json {
                return view::json(&seats);
            }
            if seats.items.is_empty() {
                return view::line("No seats yet. Add one with: pennine seat add NAME --count N");
            }
            return view::print(&table(&seats.items));
        }
        Verb::Add {
            name,
            count,
            description,
        } => {
            let new = NewSeat {
                name,
                count,
                description,
            };
            client.add_seat(&new).await?
        }
        Verb::Set {
            name,
            count,
            description,
        } => {
            let change = SeatChange { count, description };
            let seat = client.change_seat(&name, &change).await?;
            yard::remind(client, ThingKind::Seat, &name).await;
            seat
        }
        Verb::TakeBack { name, job, why } => {
            client
                .take_seat_back(&name, &TakeBack { job, reason: why })
                .await?
        }
    };
    if json {
        view::json(&seat)
    } else {
        view::print(&table(std::slice::from_ref(&seat)))
    }
}

fn table(seats: &[Seat]) -> String {
    view::table(
        &["seat", "taken", "held by", "description"],
        seats.iter().map(|seat| {
            let holders: Vec<String> = seat
                .holders
                .iter()
                .map(|holder| match &holder.taken_back {
                    Some(back) => format!("({}: taken back by {})", holder.job, back.by),
                    None => format!("{} of {}", holder.job, holder.project),
                })
                .chain(seat.kept_back.iter().map(|kept| match kept.job.as_str() {
                    "" => format!("{} reserved for a job of another team", kept.count),
                    job => format!("{} reserved for {job}", kept.count),
                }))
                .collect();
            vec![
                seat.name.clone(),
                format!("{} of {}", seat.taken, seat.count),
                view::cut(&holders.join(", "), 50),
                view::cut(&seat.description, 30),
            ]
        }),
    )
}
