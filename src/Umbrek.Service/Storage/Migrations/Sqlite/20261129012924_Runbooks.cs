using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Umbrek.Service.Storage.Migrations.Sqlite
{
    /// <inheritdoc />
    public partial class Runbooks : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<int>(
                name: "Steps",
                table: "ScriptVersions",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "Steps",
                table: "Runs",
                type: "TEXT",
                nullable: true);
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropColumn(
                name: "Steps",
                table: "ScriptVersions");

            migrationBuilder.DropColumn(
                name: "Steps",
                table: "Runs");
        }
    }
}
