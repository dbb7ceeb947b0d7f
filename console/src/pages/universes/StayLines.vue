<script setup lang="ts">
// Every stay of every member on one line of time; a stay that goes on ends open, one whose ends are in doubt is framed there.
import { computed } from "vue";
import { RouterLink } from "vue-router";
import type { Membership } from "../../composables/api";
import { useMeaning } from "../../composables/meaning";

const props = defineProps<{ memberships: readonly Membership[]; on: string }>();
const meaning = useMeaning();
const day = (date: string) => Date.parse(`${date}T00:00:00Z`) / 86_400_000;

/** The stretch that is drawn: from the first day that is told to some weeks after the newest. */
const ends = computed(() => {
  const told = props.memberships.flatMap((m) => [m.from, m.to]).flatMap((date) => (date ? [day(date)] : []));
  const to = Math.max(day(props.on), ...told);
  const from = Math.min(to - 365, ...told);
  const room = (to - from) * 0.03;
  return { from: from - room, to: to + room };
});
const place = (at: number) => ((at - ends.value.from) / (ends.value.to - ends.value.from)) * 100;

const years = computed(() => {
  const first = new Date(ends.value.from * 86_400_000).getUTCFullYear() + 1;
  const last = new Date(ends.value.to * 86_400_000).getUTCFullYear();
  const step = Math.ceil((last - first + 1) / 12);
  return Array.from({ length: Math.max(0, Math.ceil((last - first + 1) / step)) }, (_, i) => first + i * step).map((year) => ({ year, at: place(day(`${year}-01-01`)) }));
});

/** Members of that day first, each group by symbol. */
const rows = computed(() => {
  const by = new Map<string, Membership[]>();
  for (const m of props.memberships) by.set(m.instrument, [...(by.get(m.instrument) ?? []), m]);
  const is = (stays: Membership[]) => stays.some((m) => (!m.from || m.from <= props.on) && (!m.to || props.on < m.to));
  return [...by]
    .map(([instrument, stays]) => ({ instrument, stays, now: is(stays) }))
    .sort((a, b) => Number(b.now) - Number(a.now) || a.instrument.localeCompare(b.instrument));
});

function line(m: Membership) {
  const from = m.from ? Math.max(0, place(day(m.from))) : 0;
  const to = m.to ? Math.min(100, place(day(m.to))) : 100;
  const doubted = m.joined_after || m.left_after;
  return {
    left: `${from}%`,
    width: `max(2px, ${to - from}%)`,
    background: m.to ? meaning.value.excused : meaning.value.held,
    outline: doubted ? `2px solid ${meaning.value.missing}` : "none",
  };
}
function words(m: Membership) {
  const seen = (after?: string | null) => (after ? ` (seen after ${after})` : "");
  const from = m.from ? `from ${m.from}${seen(m.joined_after)}` : "always a member";
  const to = m.to ? ` until ${m.to}${seen(m.left_after)}` : ", a member still";
  const called = m.called !== m.instrument && m.called !== m.name ? `, called ${m.called}` : "";
  return [`${m.instrument} ${m.name}: ${from}${to}${called}, by ${m.by}`, m.joined && `joined: ${m.joined}`, m.left && `left: ${m.left}`].filter(Boolean).join("\n");
}
</script>

<template>
  <div class="lines" role="img" :aria-label="`${rows.length} members and their stays`">
    <div class="row head" aria-hidden="true">
      <span class="who" />
      <span class="time">
        <span v-for="y in years" :key="y.year" class="year" :style="{ left: `${y.at}%`, color: meaning.faint }">{{ y.year }}</span>
      </span>
    </div>
    <div v-for="row in rows" :key="row.instrument" class="row">
      <router-link class="who" :to="{ name: 'instrument', params: { symbol: row.instrument } }" :title="row.stays[0].name" :style="{ color: row.now ? meaning.text : meaning.faint }">{{ row.instrument }}</router-link>
      <span class="time" :style="{ borderColor: meaning.line }">
        <span v-for="y in years" :key="y.year" class="mark" :style="{ left: `${y.at}%`, background: meaning.line }" />
        <span v-for="(m, i) in row.stays" :key="i" class="stay" :title="words(m)" :style="line(m)" />
        <span class="mark" :style="{ left: `${place(day(on))}%`, background: meaning.act }" />
      </span>
    </div>
  </div>
</template>

<style scoped>
.row {
  display: flex;
  align-items: center;
  gap: 10px;
  height: 20px;
}
.who {
  width: 110px;
  flex: none;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.time {
  position: relative;
  flex: 1;
  height: 100%;
  border-bottom: 1px solid transparent;
  overflow: hidden;
}
.year {
  position: absolute;
  font-size: 12px;
  padding-left: 3px;
}
.mark {
  position: absolute;
  top: 0;
  bottom: 0;
  width: 1px;
}
.stay {
  position: absolute;
  top: 4px;
  height: 11px;
  border-radius: 2px;
  outline-offset: -2px;
}
</style>
