//! Things that several scenes are made of. All coordinates are in a canvas of 1280 by 720.

use std::f64::consts::TAU;
use std::fmt::Write as _;

/// A rounded ridge across the whole canvas: height at `x` from a few waves of whole periods.
pub fn ridge(base: f64, waves: &[(f64, f64, f64)], fill: &str) -> String {
    let mut path = String::from("M-10 730");
    for step in 0..=130 {
        let x = f64::from(step) * 10.0 - 10.0;
        let y = base - waves.iter().map(|(a, n, shift)| a * (TAU * n * x / 1280.0 + shift).sin()).sum::<f64>();
        let _ = write!(path, " L{x:.0} {y:.1}");
    }
    format!("<path d='{path} L1290 730Z' fill='{fill}'/>")
}

/// Sky between two colours.
pub fn sky(top: &str, middle: &str, low: &str) -> String {
    format!(
        "<defs><linearGradient id='sky' x1='0' y1='0' x2='0' y2='1'><stop offset='0' stop-color='{top}'/>\
         <stop offset='.55' stop-color='{middle}'/><stop offset='1' stop-color='{low}'/></linearGradient></defs>\
         <rect width='1280' height='720' fill='url(#sky)'/>"
    )
}

/// A cloud that drifts once round the (wider) sky in one loop.
pub fn cloud(x: f64, y: f64, scale: f64, phase: f64, turns: f64, fill: &str) -> String {
    let at = (x + phase * turns * 1800.0).rem_euclid(1800.0) - 260.0;
    format!(
        "<g transform='translate({at:.2} {y}) scale({scale})' fill='{fill}'><ellipse cx='60' cy='30' rx='90' ry='22'/>\
         <ellipse cx='30' cy='18' rx='42' ry='24'/><ellipse cx='84' cy='12' rx='52' ry='30'/></g>"
    )
}

fn wheel(x: f64, y: f64, radius: f64, turn: f64, fill: &str) -> String {
    let mut spokes = String::new();
    for spoke in 0..6 {
        let angle = turn + TAU * f64::from(spoke) / 6.0;
        let _ = write!(
            spokes,
            "<line x1='{x}' y1='{y}' x2='{:.2}' y2='{:.2}'/>",
            x + radius * 0.82 * angle.cos(),
            y + radius * 0.82 * angle.sin()
        );
    }
    format!(
        "<circle cx='{x}' cy='{y}' r='{radius}' fill='{fill}'/><circle cx='{x}' cy='{y}' r='{:.1}' fill='none' \
         stroke='#c9b37a' stroke-width='2'/><g stroke='#c9b37a' stroke-width='2'>{spokes}</g>",
        radius * 0.82
    )
}

/// A tank engine heading right, 190 wide, its rails at y = 0. `run` is the distance it has run.
pub fn engine(run: f64, body: &str, lamp: &str) -> String {
    let turn = run / 17.0;
    let rod = 8.0 * turn.sin();
    let mut out = format!(
        "<rect x='8' y='-46' width='160' height='24' rx='3' fill='#1d1f20'/><rect x='4' y='-112' width='62' height='82' rx='4' fill='{body}'/>\
         <rect x='0' y='-118' width='72' height='9' rx='4' fill='#232628'/><rect x='14' y='-100' width='22' height='26' rx='3' fill='{lamp}'/>\
         <rect x='42' y='-100' width='16' height='26' rx='3' fill='{lamp}'/><rect x='64' y='-88' width='104' height='44' rx='20' fill='{body}'/>\
         <rect x='58' y='-72' width='82' height='36' rx='4' fill='{body}'/><rect x='58' y='-66' width='82' height='4' fill='#d9b65a'/>\
         <rect x='88' y='-88' width='4' height='44' fill='#d9b65a'/><rect x='126' y='-88' width='4' height='44' fill='#d9b65a'/>\
         <path d='M140 -86 L136 -118 H158 L154 -86Z' fill='#232628'/><rect x='132' y='-124' width='30' height='8' rx='3' fill='#d9b65a'/>\
         <path d='M98 -88 a12 12 0 0 1 24 0Z' fill='#d9b65a'/><rect x='168' y='-76' width='8' height='20' rx='3' fill='#232628'/>\
         <circle cx='178' cy='-66' r='7' fill='{lamp}'/><path d='M160 -28 L196 -6 H160Z' fill='#8d2f26'/><rect x='-6' y='-36' width='14' height='8' rx='4' fill='#1d1f20'/>"
    );
    for x in [34.0, 82.0, 130.0] {
        out += &wheel(x, -18.0, 18.0, turn, "#1d1f20");
    }
    let _ = write!(
        out,
        "<line x1='34' y1='{0:.2}' x2='130' y2='{0:.2}' stroke='#d8d4c6' stroke-width='5' stroke-linecap='round'/>",
        -18.0 + rod
    );
    out
}

/// A carriage, 150 wide, its rails at y = 0.
pub fn carriage(run: f64, body: &str, window: &str) -> String {
    let turn = run / 12.0;
    let mut out = format!(
        "<rect x='0' y='-96' width='146' height='70' rx='6' fill='{body}'/><rect x='-4' y='-104' width='154' height='12' rx='6' fill='#e6dfcb'/>\
         <rect x='0' y='-54' width='146' height='5' fill='#d9b65a'/><rect x='-8' y='-36' width='164' height='12' rx='4' fill='#1d1f20'/>"
    );
    for window_at in 0..5 {
        let _ = write!(
            out,
            "<rect x='{}' y='-86' width='20' height='26' rx='3' fill='{window}'/>",
            10 + window_at * 27
        );
    }
    for x in [24.0, 122.0] {
        out += &wheel(x, -12.0, 12.0, turn, "#1d1f20");
    }
    out
}

/// The whole train heading right with its front at `x` and its rails at `y`; steam trails behind.
pub fn train(x: f64, y: f64, scale: f64, run: f64, colours: [&str; 3], lamp: &str) -> String {
    let mut out = format!("<g transform='translate({x:.2} {y}) scale({scale})'>");
    for puff in 0..14 {
        let age = (f64::from(puff) + (run / 70.0).fract()) / 14.0;
        let _ = write!(
            out,
            "<circle cx='{:.1}' cy='{:.1}' r='{:.1}' fill='#ffffff' opacity='{:.3}'/>",
            -48.0 - age * 330.0,
            -132.0 - age * 92.0 - (age * 19.0).sin() * 6.0,
            9.0 + age * 40.0,
            0.72 * (1.0 - age).powf(1.2)
        );
    }
    for (at, body) in colours[1..].iter().enumerate() {
        let _ = write!(out, "<g transform='translate({} 0)'>{}</g>", -355 - 164 * at as i32, carriage(run, body, lamp));
    }
    let _ = write!(out, "<g transform='translate(-196 0)'>{}</g></g>", engine(run, colours[0], lamp));
    out
}

/// Rails and sleepers along the whole canvas at `y`.
pub fn track(y: f64, ballast: &str, sleeper: &str) -> String {
    let mut out = format!("<rect x='0' y='{:.0}' width='1280' height='16' fill='{ballast}'/>", y + 4.0);
    for at in 0..54 {
        let _ = write!(out, "<rect x='{}' y='{:.0}' width='12' height='6' fill='{sleeper}'/>", at * 24, y + 3.0);
    }
    out + &format!("<rect x='0' y='{y:.0}' width='1280' height='4' fill='#6f6a63'/>")
}

/// A flag that flies to the right from its staff's top.
pub fn flag(x: f64, y: f64, length: f64, phase: f64, fill: &str) -> String {
    let wave = |along: f64| (TAU * (2.0 * along - 4.0 * phase)).sin() * 5.0 * along;
    let (mut upper, mut lower) = (String::new(), String::new());
    for step in 0..=12 {
        let along = f64::from(step) / 12.0;
        let _ = write!(upper, " L{:.2} {:.2}", x + along * length, y + wave(along) + along * 10.0);
        let back = 1.0 - along;
        let _ = write!(lower, " L{:.2} {:.2}", x + back * length, y + 30.0 + wave(back) - back * 10.0);
    }
    format!(
        "<rect x='{:.1}' y='{:.1}' width='4' height='120' rx='2' fill='#5b4a3a'/><path d='M{x} {y}{upper}{lower}Z' fill='{fill}'/>",
        x - 4.0,
        y - 4.0
    )
}

/// The plate that every scene carries: the feed's name, a running counter, and a dial whose hand goes round
/// once a second, so that a frozen or late picture is seen at once.
pub fn plate(name: &str, seconds: f64) -> String {
    let whole = seconds.floor();
    let counter = format!("{:02}:{:02}.{:02}", 0, whole as u32, ((seconds - whole) * 100.0).round() as u32);
    let angle = TAU * seconds.fract() - TAU / 4.0;
    format!(
        "<g font-family='Lato' fill='#fffdf7'><rect x='28' y='26' width='{width}' height='66' rx='8' fill='#0d191b' opacity='.62'/>\
         <path d='M46 74 L58 50 L66 63 L72 55 L84 74Z' fill='none' stroke='#fffdf7' stroke-width='3' stroke-linejoin='round'/>\
         <text x='100' y='58' font-size='26' font-weight='900'>{name}</text>\
         <text x='100' y='80' font-size='14.5' letter-spacing='.6'>Hollow Fell Light Railway</text></g>\
         <g><rect x='1038' y='640' width='214' height='54' rx='8' fill='#0d191b' opacity='.62'/>\
         <circle cx='1066' cy='667' r='16' fill='none' stroke='#fffdf7' stroke-width='2.5'/>\
         <line x1='1066' y1='667' x2='{:.2}' y2='{:.2}' stroke='#4cc0b1' stroke-width='4' stroke-linecap='round'/>\
         <text x='1096' y='678' font-family='DejaVu Sans Mono' font-size='30' fill='#fffdf7'>{counter}</text></g>",
        1066.0 + 13.0 * angle.cos(),
        667.0 + 13.0 * angle.sin(),
        width = (110 + name.len() * 15).max(270),
    )
}
