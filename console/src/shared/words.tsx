import { Input } from "antd";
import { useEffect, useState } from "react";

/** Words to search for; the address follows when typing rests. */
export function Words({
  label,
  placeholder,
  value,
  onChange,
}: {
  label: string;
  placeholder: string;
  value: string;
  onChange: (v: string) => void;
}) {
  const [text, setText] = useState(value);
  useEffect(() => setText(value), [value]);
  useEffect(() => {
    if (text === value) return;
    const rest = setTimeout(() => onChange(text), 250);
    return () => clearTimeout(rest);
  }, [text, value, onChange]);
  return (
    <Input.Search
      allowClear
      aria-label={label}
      placeholder={placeholder}
      className="wide-240"
      value={text}
      onChange={(e) => setText(e.target.value)}
      onSearch={onChange}
    />
  );
}
