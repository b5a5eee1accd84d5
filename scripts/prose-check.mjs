#!/usr/bin/env node
// Checks comments, messages and documents against the rules of docs/contributing.md, "Language".

import { execFileSync } from 'node:child_process';
import { readFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';

const root = join(dirname(fileURLToPath(import.meta.url)), '..');

/** Comments that begin with a clause instead of a noun or a verb. */
const OPENING = /^\s*(?:\/\/[/!]?|\*|\/\*\*?)\s+(?:What|Whoever|Whose|Who|Where|Nobody|Somebody|Something)\b/;
/** Words that stand for a standard term, in identifiers, comments and messages. */
const WORDS =
    /\b(?:anew|whoever|told|manners|weather|wherever|dialling|dialled|neighbouring|colour|sounds? (?:is|are|was)|goes on|go on|without a word)\b/i;
/** Names that say nothing outside of their module. Words of a text or of 32 bits are words. */
const NAMES =
    /\b(?:fn|struct|enum|const|static|mod|type|let|let mut)\s+(?:(?:\w*_)?(?:ways?|look|told|tell|deed|fate|care|usual|MOST|USUAL|PATIENCE|AT_A_TIME|FRESH|SOON)(?:_\w*)?|(?:in|\w+)_words?|taken|kept(?:_\w*)?)\b/;
/** Names of tests, which are sentences. */
const TEST_NAME = /^\s*(?:async )?fn (?:\w+_){3,}\w+\(/;

function findings(file) {
    const found = [];
    const isCode = /\.(rs|tsx?|mjs)$/.test(file);
    readFileSync(join(root, file), 'utf8')
        .split('\n')
        .forEach((text, at) => {
            // Documents quote former names as code.
            const line = isCode ? text : text.replace(/`[^`]*`/g, '');
            const reason = isCode && OPENING.test(line)
                ? 'a comment begins with a clause'
                : WORDS.test(line)
                  ? 'a word stands for a standard term'
                  : isCode && NAMES.test(line) && !TEST_NAME.test(line)
                    ? 'a name says nothing outside of its module'
                    : undefined;
            if (reason) found.push(`${file}:${at + 1}: ${reason}: ${text.trim()}`);
        });
    return found;
}

const tracked = execFileSync('git', ['ls-files'], { cwd: root, encoding: 'utf8' }).split('\n');
const checked = tracked.filter(
    (file) =>
        /^(crates|bench|fuzz|console\/src)\/.*\.(rs|tsx?)$/.test(file) || /^(docs\/.*|README|CHANGELOG)\.md$/.test(file)
).filter((file) => !file.endsWith('schema.d.ts'));

const found = checked.flatMap(findings);
if (found.length) {
    console.error(`${found.join('\n')}\n${found.length} findings: see docs/contributing.md, "Language"`);
    process.exitCode = 1;
}
