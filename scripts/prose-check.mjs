#!/usr/bin/env node
// Checks comments, messages and documents against the rules of docs/contributing.md, "Language".
//
// Findings that are known are counted for each file in prose-exceptions.txt; the numbers may only fall. `--update` writes them.

import { execFileSync } from 'node:child_process';
import { readFileSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';

const root = join(dirname(fileURLToPath(import.meta.url)), '..');
const exceptionsFile = join(root, 'scripts', 'prose-exceptions.txt');

/** Comments that begin with a clause instead of a noun or a verb. */
const OPENING = /^\s*(?:\/\/[/!]?|\*|\/\*\*?)\s+(?:What|Whoever|Whose|Who|Where|Nobody|Somebody|Something)\b/;
/** Words that stand for a standard term, in identifiers, comments and messages. */
const WORDS =
    /\b(?:anew|whoever|told|manners|weather|wherever|dialling|dialled|neighbouring|colour|sounds? (?:is|are|was)|goes on|go on|without a word)\b/i;
/** Names that say nothing outside of their module. */
const NAMES =
    /\b(?:fn|struct|enum|const|static|mod|type|let|let mut)\s+(?:\w*_)?(?:words?|ways?|look|told|tell|taken|kept|deed|fate|care|usual|MOST|USUAL|PATIENCE|AT_A_TIME|FRESH|SOON)(?:_\w*)?\b/;

function findings(file) {
    const found = [];
    const isCode = /\.(rs|tsx?|mjs)$/.test(file);
    readFileSync(join(root, file), 'utf8')
        .split('\n')
        .forEach((line, at) => {
            const reason = isCode && OPENING.test(line)
                ? 'a comment begins with a clause'
                : WORDS.test(line)
                  ? 'a word stands for a standard term'
                  : isCode && NAMES.test(line)
                    ? 'a name says nothing outside of its module'
                    : undefined;
            if (reason) found.push(`${file}:${at + 1}: ${reason}: ${line.trim()}`);
        });
    return found;
}

const tracked = execFileSync('git', ['ls-files'], { cwd: root, encoding: 'utf8' }).split('\n');
const checked = tracked.filter(
    (file) =>
        /^(crates|bench|fuzz|console\/src)\/.*\.(rs|tsx?)$/.test(file) || /^(docs\/.*|README|CHANGELOG)\.md$/.test(file)
).filter((file) => !file.endsWith('schema.d.ts'));

const known = new Map(
    readFileSync(exceptionsFile, { encoding: 'utf8', flag: 'a+' })
        .split('\n')
        .filter((line) => line && !line.startsWith('#'))
        .map((line) => {
            const [file, count] = line.split(/\s+/);
            return [file, Number(count)];
        })
);

const counts = new Map();
let failed = false;
for (const file of checked) {
    const found = findings(file);
    if (found.length) counts.set(file, found.length);
    const allowed = known.get(file) ?? 0;
    if (found.length > allowed && !process.argv.includes('--update')) {
        failed = true;
        console.error(`${found.join('\n')}\n${file}: ${found.length} findings, ${allowed} are known`);
    }
}
for (const [file, allowed] of known) {
    if ((counts.get(file) ?? 0) < allowed && !process.argv.includes('--update')) {
        failed = true;
        console.error(`${file}: ${counts.get(file) ?? 0} findings, ${allowed} are known: run scripts/prose-check.mjs --update`);
    }
}
if (process.argv.includes('--update')) {
    const lines = [...counts].sort().map(([file, count]) => `${file} ${count}`);
    writeFileSync(exceptionsFile, `# Findings of prose-check.mjs that are still to be corrected. The numbers may only fall.\n${lines.join('\n')}\n`);
}
if (process.argv.includes('--list')) {
    for (const file of checked) findings(file).forEach((line) => console.log(line));
}
process.exit(failed ? 1 : 0);
