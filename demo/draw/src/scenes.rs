//! The five places that have cameras.

use std::f64::consts::TAU;
use std::fmt::Write as _;

use crate::scenery::{carriage, cloud, engine, flag, plate, ridge, sky, track, train};

#[derive(Clone, Copy)]
pub enum Scene {
    Summit,
    Viaduct,
    EngineShed,
    Bandstand,
    LevelCrossing,
}

impl Scene {
    /// The picture at `seconds` into a loop of `length` seconds.
    pub fn svg(self, seconds: f64, length: f64) -> String {
        let phase = seconds / length;
        let (name, picture) = match self {
            Self::Summit => ("Summit Station", summit(phase)),
            Self::Viaduct => ("Viaduct", viaduct(phase)),
            Self::EngineShed => ("Engine Shed", engine_shed(phase)),
            Self::Bandstand => ("Bandstand", bandstand(phase)),
            Self::LevelCrossing => ("Level Crossing", level_crossing(phase)),
        };
        format!(
            "<svg xmlns='http://www.w3.org/2000/svg' width='1280' height='720' viewBox='0 0 1280 720'>{picture}{}</svg>",
            plate(name, seconds)
        )
    }
}

fn summit(phase: f64) -> String {
    let mut out = sky("#7fb0c4", "#c6dde0", "#f3e6cf");
    out += "<circle cx='1010' cy='150' r='46' fill='#fff3d0' opacity='.9'/>";
    out += &cloud(120.0, 110.0, 1.2, phase, 1.0, "#ffffff");
    out += &cloud(900.0, 190.0, 0.8, phase, 1.0, "#fdf6ea");
    out += &cloud(1400.0, 70.0, 1.0, phase, 1.0, "#ffffff");
    out += &ridge(370.0, &[(70.0, 1.3, 0.4), (34.0, 2.7, 1.0)], "#9db8bb");
    out += &ridge(420.0, &[(50.0, 1.0, 2.4), (26.0, 3.1, 0.2)], "#7a9a98");
    out += &ridge(480.0, &[(28.0, 1.6, 4.0), (10.0, 5.0, 0.0)], "#587a6d");
    out += &ridge(540.0, &[(12.0, 2.0, 1.0)], "#46664f");
    // The station behind the line.
    out += "<g><rect x='820' y='392' width='300' height='150' fill='#d8c9a8'/><path d='M800 396 L970 312 L1140 396Z' fill='#7d3a2c'/>\
        <rect x='1060' y='318' width='26' height='52' fill='#8b5a44'/><circle cx='970' cy='364' r='17' fill='#fffdf7' stroke='#3a2f28' stroke-width='4'/>\
        <rect x='846' y='430' width='44' height='60' rx='3' fill='#39525a'/><rect x='1052' y='430' width='44' height='60' rx='3' fill='#39525a'/>\
        <rect x='944' y='438' width='52' height='104' rx='4' fill='#5c3b2b'/><rect x='780' y='498' width='380' height='8' fill='#5b4a3a'/>\
        <rect x='884' y='404' width='172' height='22' rx='3' fill='#16302f'/><text x='970' y='421' font-family='Lato' font-weight='700' font-size='16' fill='#fffdf7' text-anchor='middle'>Hollow Fell Summit</text></g>";
    let hour = TAU * phase - TAU / 4.0;
    let _ = write!(
        out,
        "<line x1='970' y1='364' x2='{:.2}' y2='{:.2}' stroke='#3a2f28' stroke-width='3'/>",
        970.0 + 12.0 * hour.cos(),
        364.0 + 12.0 * hour.sin()
    );
    out += &flag(742.0, 300.0, 74.0, phase, "#0b746c");
    out += "<rect x='740' y='420' width='4' height='122' fill='#5b4a3a'/>";
    // Platform, then the line in front of it.
    out += "<rect x='690' y='540' width='590' height='44' fill='#b9ad95'/><rect x='690' y='540' width='590' height='7' fill='#f0e9d8'/>";
    out += &ridge(592.0, &[(3.0, 4.0, 0.0)], "#5e7d55");
    out += &track(606.0, "#8f8574", "#57493b");
    let run = phase * 2000.0;
    out += &train(-60.0 + run, 606.0, 1.0, run, ["#1f5d57", "#8d2f26", "#8d2f26"], "#ffe7a8");
    out += &ridge(668.0, &[(6.0, 3.0, 0.6)], "#3f5c41");
    let mut grass = String::new();
    for blade in 0..120 {
        let x = f64::from(blade) * 10.8;
        let lean = (TAU * (phase * 4.0 + x / 320.0)).sin() * 5.0;
        let height = 18.0 + f64::from(blade * 37 % 17);
        let _ = write!(grass, "<path d='M{x:.1} 720 Q{x:.1} {:.1} {:.1} {:.1}'/>", 708.0 - height / 2.0, x + lean, 704.0 - height);
    }
    out + &format!("<g stroke='#7f9c5d' stroke-width='3' fill='none' stroke-linecap='round'>{grass}</g>")
}

fn level_crossing(phase: f64) -> String {
    let mut out = sky("#8fb7cf", "#cfe0e6", "#eef0e2");
    out += &cloud(300.0, 90.0, 1.0, phase, 1.0, "#ffffff");
    out += &cloud(1000.0, 140.0, 0.7, phase, 1.0, "#f7f4ec");
    out += &ridge(330.0, &[(54.0, 1.1, 0.7), (22.0, 2.9, 1.9)], "#a9bfb4");
    out += &ridge(390.0, &[(34.0, 1.5, 2.2), (12.0, 4.1, 0.4)], "#86a48c");
    out += &ridge(440.0, &[(12.0, 2.0, 1.2)], "#6c8f63");
    // The road, seen from above its far end.
    out += "<path d='M610 440 H670 L960 720 H320Z' fill='#6f7278'/><path d='M640 440 L640 720' stroke='#e9e6da' stroke-width='5' stroke-dasharray='26 22'/>";
    // A car that waits.
    out += "<g transform='translate(560 596)'><rect x='0' y='20' width='120' height='44' rx='10' fill='#a63d2f'/><rect x='18' y='0' width='84' height='32' rx='12' fill='#c25a48'/>\
        <rect x='26' y='6' width='68' height='20' rx='6' fill='#dfe9ee'/><rect x='8' y='40' width='22' height='10' rx='3' fill='#f6e3a1'/><rect x='90' y='40' width='22' height='10' rx='3' fill='#f6e3a1'/></g>";
    out += &track(520.0, "#8f8574", "#57493b");
    let run = phase * 2000.0;
    out += &train(-60.0 + run, 520.0, 1.0, run, ["#2a4a6b", "#8d2f26", "#8d2f26"], "#ffe7a8");
    // Barriers, closed while the train passes, and their lamps.
    let is_closed = (0.05..0.85).contains(&phase);
    let angle = if is_closed { 0.0 } else { -72.0 };
    for (x, side) in [(300.0, 1.0), (980.0, -1.0)] {
        let lamp = |first: bool| if is_closed && ((phase * 16.0).floor() % 2.0 == 0.0) == first { "#ff4a36" } else { "#5a201a" };
        let _ = write!(
            out,
            "<g transform='translate({x} 560) scale({side} 1)'><rect x='-14' y='-40' width='28' height='110' rx='4' fill='#3b4146'/>\
             <g transform='rotate({angle})'><rect x='0' y='-8' width='330' height='14' rx='7' fill='#f4f1e6'/>\
             <g fill='#c2392b'><rect x='30' y='-8' width='40' height='14'/><rect x='110' y='-8' width='40' height='14'/><rect x='190' y='-8' width='40' height='14'/><rect x='270' y='-8' width='40' height='14'/></g></g>\
             <rect x='-34' y='-96' width='68' height='34' rx='8' fill='#20262a'/><circle cx='-16' cy='-79' r='11' fill='{}'/><circle cx='16' cy='-79' r='11' fill='{}'/></g>",
            lamp(true),
            lamp(false)
        );
    }
    out + &ridge(700.0, &[(5.0, 3.0, 0.3)], "#56784a")
}

fn viaduct(phase: f64) -> String {
    let mut out = sky("#101c33", "#2c3d5e", "#8a7190");
    for star in 0..70_u32 {
        let (x, y) = (star * 613 % 1280, star * 197 % 330);
        let twinkle = 0.45 + 0.4 * (TAU * (phase * f64::from(1 + star % 3) + f64::from(star) / 7.0)).sin();
        let _ = write!(out, "<circle cx='{x}' cy='{y}' r='{:.1}' fill='#fff' opacity='{twinkle:.2}'/>", 0.9 + f64::from(star % 3) * 0.5);
    }
    out += "<circle cx='250' cy='170' r='74' fill='#f7ecc8' opacity='.08'/><path d='M250 118 A52 52 0 1 0 300 184 A46 46 0 0 1 250 118Z' fill='#f7ecc8'/>";
    out += &ridge(400.0, &[(80.0, 1.0, 0.9), (30.0, 2.6, 0.0)], "#27324d");
    out += &ridge(470.0, &[(46.0, 1.4, 3.4), (18.0, 4.0, 1.0)], "#1d2740");
    // Seven arches of stone.
    let mut stone = String::from("M0 372 H1280 V404 H1280 V720 H0Z");
    for arch in 0..7 {
        let left = f64::from(arch) * 186.0 + 8.0;
        let _ = write!(stone, " M{left} 720 V500 A78 78 0 0 1 {:.0} 500 V720Z", left + 156.0);
    }
    out += &ridge(640.0, &[(10.0, 2.0, 0.0)], "#152033");
    out += "<rect x='0' y='650' width='1280' height='70' fill='#1a2c44'/>";
    for ripple in 0..26 {
        let y = 656.0 + f64::from(ripple % 9) * 7.0;
        let x = (f64::from(ripple) * 97.0 + phase * 1280.0 * f64::from(1 + ripple % 2)).rem_euclid(1400.0) - 100.0;
        let _ = write!(out, "<rect x='{x:.1}' y='{y}' width='{}' height='2' rx='1' fill='#c9bfa0' opacity='.28'/>", 30 + ripple % 5 * 14);
    }
    let _ = write!(out, "<path fill-rule='evenodd' d='{stone}' fill='#4a4a57'/><rect x='0' y='366' width='1280' height='12' fill='#5d5c69'/>");
    for arch in 0..7 {
        let left = f64::from(arch) * 186.0 + 8.0;
        let _ = write!(
            out,
            "<path d='M{left} 500 A78 78 0 0 1 {:.0} 500' fill='none' stroke='#64636f' stroke-width='10'/>",
            left + 156.0
        );
    }
    let run = phase * 2000.0;
    out += &train(-60.0 + run, 366.0, 0.86, run, ["#27424f", "#6b2f2c", "#6b2f2c"], "#ffd777");
    // Light from the windows on the water.
    let _ = write!(out, "<ellipse cx='{:.1}' cy='690' rx='230' ry='12' fill='#ffd777' opacity='.16'/>", -330.0 + run);
    for band in 0..3 {
        let x = (f64::from(band) * 520.0 + phase * 1800.0).rem_euclid(1800.0) - 400.0;
        let _ = write!(
            out,
            "<ellipse cx='{x:.1}' cy='{}' rx='330' ry='26' fill='#aab4cc' opacity='.13'/>",
            590 + band * 34
        );
    }
    out
}

fn engine_shed(phase: f64) -> String {
    let mut out = sky("#e7b98a", "#f0d2a4", "#f7e6c6");
    out += &ridge(360.0, &[(50.0, 1.2, 1.4), (20.0, 3.0, 0.4)], "#c79a6d");
    out += &ridge(420.0, &[(22.0, 1.8, 0.2)], "#a97e57");
    // The shed: brick, saw-tooth roof, three doors.
    out += "<path d='M150 330 L330 230 V330 L510 230 V330 L690 230 V330 L870 230 V330 L1050 230 V330 H1080 V600 H150Z' fill='#8a4b38'/>";
    for course in 0..11 {
        let _ = write!(out, "<rect x='150' y='{}' width='930' height='2' fill='#7a3f2f'/>", 350 + course * 23);
    }
    for pane in 0..5 {
        let _ = write!(out, "<path d='M{0} 318 L{1} 252 V318Z' fill='#f9e3a6' opacity='.85'/>", 210 + pane * 180, 318 + pane * 180);
    }
    for door in 0..3 {
        let left = 210 + door * 290;
        let _ = write!(
            out,
            "<path d='M{left} 600 V440 A115 92 0 0 1 {} 440 V600Z' fill='#2a211d'/><path d='M{left} 440 A115 92 0 0 1 {} 440' fill='none' stroke='#c9a27e' stroke-width='12'/>",
            left + 230,
            left + 230
        );
        let glow = 0.35 + 0.12 * (TAU * (phase * 8.0 + f64::from(door) / 3.0)).sin();
        let _ = write!(out, "<ellipse cx='{}' cy='560' rx='96' ry='60' fill='#ffb347' opacity='{glow:.3}'/>", left + 115);
    }
    out += "<rect x='0' y='596' width='1280' height='124' fill='#8d7458'/>";
    out += &track(616.0, "#6f5c49", "#463a30");
    // One engine draws a carriage out of the shed and sets back again.
    let swing = 0.5 - 0.5 * (TAU * phase).cos();
    let x = 470.0 + swing * 420.0;
    let _ = write!(
        out,
        "<g transform='translate({x:.2} 616) scale(1.25)'>{}<g transform='translate(-164 0)'>{}</g></g>",
        engine(swing * 420.0, "#7a2d4a", "#ffe7a8"),
        carriage(swing * 420.0, "#3d5a3a", "#ffe7a8")
    );
    for puff in 0..12 {
        let age = (f64::from(puff) / 12.0 + phase * 4.0).fract();
        let _ = write!(
            out,
            "<circle cx='{:.1}' cy='{:.1}' r='{:.1}' fill='#fffaf0' opacity='{:.3}'/>",
            x + 184.0 + (age * 7.0 + f64::from(puff)).sin() * 14.0 * age,
            448.0 - age * 230.0,
            10.0 + age * 46.0,
            0.6 * (1.0 - age)
        );
    }
    // A yard lamp, and coal.
    out += "<rect x='1146' y='372' width='8' height='228' fill='#2a211d'/><path d='M1120 372 H1180 L1168 348 H1132Z' fill='#2a211d'/><circle cx='1150' cy='384' r='15' fill='#ffe7a8'/>\
        <path d='M30 600 L70 548 L104 562 L128 536 L170 600Z' fill='#2d2a2b'/>";
    out += &ridge(690.0, &[(5.0, 3.0, 0.0)], "#5f4c3a");
    out
}

fn bandstand(phase: f64) -> String {
    let mut out = sky("#f2a98d", "#f8cfa9", "#fbe9cd");
    out += "<circle cx='330' cy='330' r='74' fill='#ffe3a1' opacity='.95'/>";
    out += &cloud(300.0, 120.0, 1.1, phase, 1.0, "#fde3d3");
    out += &cloud(1200.0, 190.0, 0.9, phase, 1.0, "#fdeadb");
    out += &ridge(400.0, &[(44.0, 1.1, 0.0), (20.0, 2.8, 0.6)], "#b9a08c");
    out += &ridge(462.0, &[(20.0, 1.7, 2.0), (8.0, 6.0, 0.0)], "#8fa17c");
    for tree in 0..9 {
        let x = f64::from(tree) * 160.0 - 10.0 + f64::from(tree * 53 % 40);
        let sway = (TAU * (phase * 2.0 + f64::from(tree) / 5.0)).sin() * 4.0;
        let _ = write!(
            out,
            "<rect x='{:.1}' y='440' width='14' height='90' fill='#6a5140'/><ellipse cx='{:.1}' cy='418' rx='62' ry='72' fill='#6f8f5c'/><ellipse cx='{:.1}' cy='394' rx='40' ry='44' fill='#82a36a'/>",
            x - 7.0,
            x + sway,
            x + sway * 1.6 - 12.0
        );
    }
    out += &ridge(520.0, &[(8.0, 2.0, 0.3)], "#86a663");
    out += &ridge(600.0, &[(10.0, 1.4, 2.2)], "#759755");
    // Base, posts, roof.
    out += "<g><ellipse cx='690' cy='606' rx='330' ry='34' fill='#000' opacity='.16'/><path d='M400 520 H980 V592 H400Z' fill='#efe3cd'/><path d='M380 508 H1000 V526 H380Z' fill='#fff8ea'/>\
        <path d='M430 592 V540 M500 592 V540 M570 592 V540 M810 592 V540 M880 592 V540 M950 592 V540' stroke='#cdbda2' stroke-width='5'/>\
        <rect x='630' y='526' width='120' height='66' fill='#d6c6aa'/><path d='M630 548 H750 M630 570 H750' stroke='#b7a588' stroke-width='4'/></g>";
    for post in 0..6 {
        let _ = write!(out, "<rect x='{}' y='300' width='12' height='210' fill='#2f5d58'/>", 418 + post * 107);
    }
    out += "<path d='M366 306 L690 176 L1014 306Z' fill='#2f6b64'/><path d='M366 306 H1014 L1000 330 H380Z' fill='#fff8ea'/>\
        <path d='M690 176 L560 306 H620Z M690 176 L760 306 H820Z' fill='#3b7d75'/><rect x='684' y='142' width='12' height='40' fill='#c99b3f'/><circle cx='690' cy='138' r='11' fill='#e2b24d'/>";
    // Instruments keep time with the tune.
    for stand in 0..4 {
        let x = 470.0 + f64::from(stand) * 128.0;
        let bob = (TAU * (phase * 16.0 + f64::from(stand) / 4.0)).sin() * 5.0;
        let _ = write!(
            out,
            "<g transform='translate({x:.1} {:.2})'><path d='M0 0 q26 -52 60 -34 l22 -20 v58 l-22 -14 q-20 22 -60 10Z' fill='#d9a93f' stroke='#8a6417' stroke-width='3'/><circle cx='16' cy='4' r='16' fill='none' stroke='#8a6417' stroke-width='5'/></g>",
            468.0 + bob
        );
    }
    // Bunting and lamps.
    for (row, (x0, x1, y)) in [(60.0, 470.0, 260.0), (910.0, 1240.0, 260.0)].into_iter().enumerate() {
        for pennant in 0..13 {
            let along = f64::from(pennant) / 12.0;
            let x = x0 + (x1 - x0) * along;
            let sag = y + 60.0 * (1.0 - (2.0 * along - 1.0).powi(2));
            let swing = (TAU * (phase * 4.0 + along + row as f64 / 2.0)).sin() * 7.0;
            let fill = ["#8d2f26", "#0b746c", "#e2b24d", "#6a4a9c"][pennant as usize % 4];
            let _ = write!(out, "<path d='M{:.1} {sag:.1} h24 L{:.1} {:.1}Z' fill='{fill}'/>", x - 12.0, x + swing, sag + 32.0);
        }
    }
    for lamp in 0..22 {
        let x = 384.0 + f64::from(lamp) * 29.2;
        let bright = 0.55 + 0.45 * (TAU * (phase * 8.0 + f64::from(lamp) / 3.0)).sin();
        let _ = write!(out, "<circle cx='{x:.1}' cy='338' r='6.5' fill='#ffd34d' opacity='{bright:.2}'/>");
    }
    // Balloons rise once round.
    for balloon in 0..5 {
        let rise = (phase + f64::from(balloon) / 5.0).fract();
        let x = 1060.0 + f64::from(balloon) * 34.0 + (TAU * rise * 2.0).sin() * 18.0;
        let y = 640.0 - rise * 760.0;
        let fill = ["#a23a2b", "#0b746c", "#8a5f00", "#6a4a9c", "#d96f4a"][balloon as usize];
        let _ = write!(
            out,
            "<path d='M{x:.1} {:.1} q6 30 -2 60' stroke='#5b4a3a' stroke-width='1.5' fill='none'/><ellipse cx='{x:.1}' cy='{y:.1}' rx='22' ry='28' fill='{fill}'/><ellipse cx='{:.1}' cy='{:.1}' rx='6' ry='9' fill='#fff' opacity='.4'/>",
            y + 28.0,
            x - 7.0,
            y - 9.0
        );
    }
    out + &ridge(690.0, &[(7.0, 2.4, 0.0)], "#5f7f45")
}
